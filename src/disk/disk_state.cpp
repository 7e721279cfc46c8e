#include "disk/disk_state.h"

#include <algorithm>

namespace nuvrat {
using namespace disk;
namespace {

// What a table of this layout owns, and what is a second copy.
void own(const Layout& layout, TableReading& table) {
  table.owned = SectorSet{{0, 1}};
  table.copies = {};
  if (layout.kind == TableKind::gpt) {
    const std::uint64_t array = gpt_array_sectors(layout.sector_size);
    table.owned.add({1, 1 + array});
    table.copies.add({layout.disk_sectors - 1 - array, array + 1});
  }
  for (const Partition& p : layout.partitions) {
    if (p.table_sector) table.owned.add({*p.table_sector, 1});
  }
}

}  // namespace

DiskState::DiskState(const Survey& survey)
    : table(survey.table),
      volumes(survey.partitions),
      bare_volume(survey.bare_volume),
      systems(survey.systems),
      findings(survey.all_findings()) {}

void DiskState::set_layout(const Layout& layout) {
  if (layout == table.layout) return;
  std::vector<SurveyedPartition> now;
  for (const Partition& p : layout.partitions) {
    const SurveyedPartition* there = p.role == Role::extended ? nullptr : find(p.id);
    now.push_back(there == nullptr ? SurveyedPartition{} : *there);
    now.back().partition = p;
  }
  volumes = std::move(now);
  table.layout = layout;
  own(layout, table);
}

void DiskState::set_kind(PartitionId id, VolumeKind kind) {
  for (SurveyedPartition& s : volumes) {
    if (s.partition.id != id || s.partition.role == Role::extended) continue;
    s.signature = {kind, title_of(kind)};
    if (s.volume) s.volume->kind = kind;
  }
}

const SurveyedPartition* DiskState::find(PartitionId id) const {
  const auto it = std::find_if(volumes.begin(), volumes.end(), [id](const SurveyedPartition& s) {
    return s.partition.id == id && s.partition.role != Role::extended;
  });
  return it == volumes.end() ? nullptr : &*it;
}

const SurveyedPartition* DiskState::find(unsigned number) const {
  const auto it = std::find_if(volumes.begin(), volumes.end(), [number](const auto& s) {
    return s.partition.number == number && s.partition.role != Role::extended;
  });
  return it == volumes.end() ? nullptr : &*it;
}

}  // namespace nuvrat

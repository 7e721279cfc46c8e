#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/survey.h>

#include "base/budget.h"

namespace nuvrat {
namespace {

const ManifestVolume* recorded_volume(const KnownManifest* known, std::uint64_t start) {
  if (known == nullptr) return nullptr;
  const auto& all = known->recorded.volumes;
  const auto it =
      std::find_if(all.begin(), all.end(), [start](const auto& v) { return v.start == start; });
  return it == all.end() ? nullptr : &*it;
}

const ManifestRange* untouched_range(const KnownManifest* known, SectorRange range) {
  if (known == nullptr || known->written.first_overlap(range)) return nullptr;
  const auto& all = known->recorded.ranges;
  const auto it = std::find_if(all.begin(), all.end(), [range](const auto& r) {
    return r.start == range.first && r.sectors == range.count;
  });
  return it == all.end() ? nullptr : &*it;
}

void record_partition(Device& device, const Partition& p, const ReadOptions& options,
                      Progress& progress, const KnownManifest* known, std::string_view doing,
                      Manifest& out) {
  const Window window(device, p.range());
  ReadOptions wanted = options;
  wanted.short_names = false;
  if (const auto reader = open_volume(window, wanted)) {
    progress.stage(fmt::format("{} {}", doing, part_name(p.number)), reader->tree().total_bytes());
    const ManifestVolume* recorded = recorded_volume(known, p.start);
    ManifestVolume volume;
    if (recorded != nullptr) {
      const KnownContents contents{*recorded, known->written};
      volume = record_volume(*reader, p.start, progress, &contents);
    } else {
      volume = record_volume(*reader, p.start, progress);
    }
    volume.number = p.number;
    out.volumes.push_back(std::move(volume));
    return;
  }
  ManifestRange range;
  if (const ManifestRange* same = untouched_range(known, p.range())) {
    range = *same;
  } else {
    progress.stage(fmt::format("{} {}", doing, part_name(p.number)), window.bytes());
    range.start = p.start;
    range.sectors = p.sectors;
    range.description = recognise_volume(window).description;
    range.holds_nothing = class_of(p.type) == TypeClass::reserved;
    range.digest = range_digest(device, p.range(), progress, range.unreadable);
  }
  range.number = p.number;
  out.ranges.push_back(std::move(range));
}

}  // namespace

Manifest take_manifest(Device& device, const ReadOptions& options, Progress& progress,
                       const std::vector<unsigned>& numbers, const KnownManifest* known,
                       std::string_view doing) {
  Manifest out;
  out.device = device.identity().path;
  out.zone = options.zone.name();
  out.sector_size = device.sector_size();
  const TableReading table = read_table(device);
  std::vector<Partition> parts = table.layout.data_partitions();
  if (parts.empty() && table.layout.kind != TableKind::gpt &&
      recognise_volume(device).kind != VolumeKind::unknown) {
    Partition whole;
    whole.sectors = device.sectors();
    parts.push_back(whole);
  }
  for (const unsigned number : numbers) {
    if (std::none_of(parts.begin(), parts.end(),
                     [number](const auto& p) { return p.number == number; })) {
      throw Error(ErrorCode::words,
                  fmt::format("there is no partition p{} that holds files", number), {},
                  "See 'nuvrat survey' for the numbers");
    }
  }
  Budget covered(device.sectors());
  for (const Partition& p : parts) {
    if (!numbers.empty() && std::find(numbers.begin(), numbers.end(), p.number) == numbers.end())
      continue;
    if (!covered.take(p.sectors)) {
      throw Error(
          ErrorCode::damaged,
          fmt::format("the partitions overlap so much that reading up to p{} would read the "
                      "disk more than four times",
                      p.number),
          {}, "Name the partitions to read");
    }
    record_partition(device, p, options, progress, known, doing, out);
  }
  return out;
}

}  // namespace nuvrat

#include "plan/fat_label.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "base/record.h"
#include "fat/draft.h"
#include "fat/fat_map.h"
#include "fat/names.h"
#include "fat/records.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint8_t deleted = 0xE5;

struct Place {
  std::uint64_t sector = 0;  // of the device, from the volume's first
  std::size_t at = 0;
};

// The entry of the label, or one that it can have; which it is, `there` says.
std::optional<Place> entry_for(const Window& volume, const fat::Geometry& g, bool& there) {
  const std::uint64_t ratio = g.sector_bytes / volume.sector_size();
  std::vector<SectorRange> root{{g.root_start() * ratio, std::uint64_t{g.root_sectors} * ratio}};
  if (g.kind == VolumeKind::fat32) {
    const fat::Map map(volume, g, g.mirrored ? 0 : g.active_fat);
    base::Budget budget = map.budget();
    root.clear();
    for (const fat::ClusterRange& r : map.chain(g.root_cluster, budget).ranges)
      root.push_back(
          {g.cluster_start(r.first) * ratio, std::uint64_t{r.count} * g.cluster_sectors * ratio});
  }
  std::optional<Place> spare;
  for (const SectorRange& range : root) {
    for (std::uint64_t sector = range.first; sector < range.end(); ++sector) {
      const Bytes bytes = volume.read(sector);
      for (std::size_t at = 0; at < bytes.size(); at += sizeof(fat::DirEntry)) {
        const auto entry = base::load<fat::DirEntry>(bytes, at);
        const std::uint8_t first = entry.DIR_Name[0];
        const bool is_long = (entry.DIR_Attr & 0x3F) == 0x0F;
        if (first != 0 && first != deleted && !is_long && (entry.DIR_Attr & fat::attr_label) != 0) {
          there = true;
          return Place{sector, at};
        }
        if (first == deleted && !spare) spare = Place{sector, at};
        if (first != 0) continue;
        // The end of the folder: what follows must be one, too.
        const bool in_sector = at + 2 * sizeof(fat::DirEntry) <= bytes.size();
        const bool last = !in_sector && sector + 1 == range.end();
        const std::uint8_t next = in_sector ? bytes[at + sizeof(fat::DirEntry)]
                                  : last    ? std::uint8_t{0}
                                            : volume.read(sector + 1)[0];
        const bool alone = last && &range != &root.back();
        if (!spare && next == 0 && !alone) spare = Place{sector, at};
        return spare;
      }
    }
  }
  return spare;
}

}  // namespace

PlanPart plan_fat_label(const PlanInput& in, const VolumeChange& change, const std::string& label) {
  PlanPart out;
  const std::string name =
      change.number == 0 ? "the volume" : fmt::format("partition {}", change.number);
  const CodePage page(change.codepage);
  const std::string spelt = fat::label_for(to_utf16(label), page);
  if (spelt != label) {
    out.obstacle(
        ObstacleCode::label,
        fmt::format("{} is FAT, which can't have the label '{}': a label there has up to 11 "
                    "characters, capitals, of the code page {}",
                    name, printable(label), change.codepage),
        spelt.empty() ? "Choose another label"
                      : fmt::format("Choose another label, such as '{}'", spelt),
        0, change.number);
    return out;
  }
  const Window volume(in.device, change.place);
  const fat::Geometry g = fat::geometry_of(volume, volume.read(0));
  bool there = false;
  const auto place = entry_for(volume, g, there);
  if (!place && !label.empty()) {
    out.obstacle(ObstacleCode::root_full,
                 fmt::format("{}: the root folder has no entry left for a label", name),
                 "Take a file out of the root folder under the system that owns the volume", 0,
                 change.number);
    return out;
  }
  const std::array<std::uint8_t, 11> bytes = fat::label_bytes(label, page);
  fat::Draft draft(in.device, change.place, g);
  if (there || !label.empty()) {
    Bytes& sector = draft.at(place->sector);
    fat::DirEntry entry{};
    if (there) entry = base::load<fat::DirEntry>(sector, place->at);
    entry.DIR_Attr = fat::attr_label;
    if (label.empty()) {
      entry.DIR_Name[0] = deleted;
    } else {
      entry.DIR_Name = bytes;
    }
    base::store(entry, sector, place->at);
  }
  steps::FatChange work;
  work.title = label.empty() ? "label taken away" : "label '" + label + "'";
  work.volume = change;
  std::vector<SectorWrite> writes = draft.changes();
  fat::Geometry labelled = g;
  labelled.label = bytes;
  const std::uint64_t copy =
      std::uint64_t{g.backup_boot} * (g.sector_bytes / in.device.sector_size());
  const bool copied = copy != 0 && volume.read(copy) == volume.read(0);
  fat::set_label(draft.at(0), labelled);
  if (copied) fat::set_label(draft.at(copy), labelled);
  std::vector<SectorWrite> all = draft.changes();
  if (writes.empty() && all.empty()) return out;
  // The entry is what counts; without one, the boot sector.
  work.change = writes.empty() ? all.front() : writes.front();
  for (SectorWrite& w : all) {
    if (w.lba != work.change.lba) work.after.push_back(std::move(w));
  }
  work.volume.writes = 1 + work.after.size();
  out.steps.push_back(Step(in.state.table.layout, {steps::FatMend{std::move(work)}}));
  return out;
}

}  // namespace nuvrat::plan

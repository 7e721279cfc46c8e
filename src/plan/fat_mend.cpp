// check --repair for FAT: what can be mended with no file changed but those that say more than they
// have.
//
// Two steps. The first makes copies equal to what they copy, ends chains where their files end, and
// cuts sizes to what chains hold: each of its sectors is right by itself, whatever the others are.
// What then has no owner is freed, or kept as files, by the second.

#include <algorithm>
#include <map>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/record.h"
#include "fat/check.h"
#include "fat/copies.h"
#include "fat/draft.h"
#include "fat/records.h"
#include "plan/repair.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::size_t max_mended_sectors = 65536;  // of one mend: they are kept in the case
constexpr const char* kept_folder = "UNOWNED";

class FatMender {
 public:
  FatMender(const PlanInput& in, const Partition& partition, const fat::Facts& facts,
            Unowned unowned)
      : in_(in),
        device_(in.device),
        partition_(partition),
        facts_(facts),
        g_(facts.geometry),
        ratio_(g_.sector_bytes / in.device.sector_size()),
        unowned_(unowned),
        draft_(in.device, partition.range(), facts.geometry),
        loose_(facts.unowned) {}

  PlanPart plan() {
    mend_all();
    return std::move(out_);
  }

 private:
  void mend_all() {
    mend_copies();
    mend_chains();
    steps::FatChange first = new_change();
    first.title = "copies and sizes mended";
    take(draft_.changes(), first);

    const fat::Draft after_first = draft_;
    steps::FatChange second = new_change();
    const bool kept = unowned_ == Unowned::keep && !loose_.empty();
    const bool freed = unowned_ == Unowned::free && !loose_.empty() && !facts_.root_lost;
    second.title = kept    ? "unowned chains kept in the folder UNOWNED"
                   : freed ? "unowned chains freed"
                           : "count of free clusters mended";
    if (kept) {
      if (!keep_loose()) return;
    } else if (freed) {
      free_loose();
    }
    mend_info();
    const std::vector<SectorWrite> rest = draft_.changes(&after_first);
    if (first.change.data.size() + rest.size() > 0 &&
        first.before.size() + rest.size() > max_mended_sectors) {
      out_.obstacle(ObstacleCode::mend_too_large,
                    fmt::format("{} sectors of partition {} would have to be mended", rest.size(),
                                partition_.number),
                    "Check the volume under the system that owns it", 0, partition_.number);
      return;
    }
    if (kept) {
      take_kept(rest, second);
    } else {
      take(rest, second);
    }
    for (steps::FatChange* change : {&first, &second}) {
      change->volume.writes = change->before.size() + change->after.size() + 1;
      if (!change->change.data.empty())
        out_.steps.push_back(Step(in_.before, {steps::FatMend{std::move(*change)}}));
    }
  }

  steps::FatChange new_change() const {
    steps::FatChange out;
    out.volume.number = partition_.number;
    out.volume.place = partition_.range();
    out.volume.from = out.volume.to = g_.kind;
    out.volume.zone = in_.options.zone.name();
    out.volume.codepage = in_.options.codepage;
    return out;
  }

  // The last one is the switch: every one of them is right by itself.
  static void take(std::vector<SectorWrite> writes, steps::FatChange& change) {
    if (writes.empty()) return;
    change.change = std::move(writes.back());
    writes.pop_back();
    change.after = std::move(writes);
  }

  // The folder's place in the root is the switch; before it, its contents and chains.
  void take_kept(const std::vector<SectorWrite>& writes, steps::FatChange& change) const {
    for (const SectorWrite& w : writes) {
      if (w.lba == root_entry_lba_) {
        change.change = w;
      } else {
        change.before.push_back(w);
      }
    }
  }

  [[nodiscard]] std::uint64_t sector_of(std::uint32_t cluster) const {
    return g_.cluster_start(cluster) * ratio_;
  }

  void mend_copies() {
    Bytes first = device_.read(partition_.start, ratio_);
    if (!facts_.boot_mended.empty() && !facts_.head_wrong) {
      first = facts_.boot_mended;
      put(0, first);
    }
    const std::uint8_t media = first[21];
    // Once every cluster in use is of a file, or is to be, those that are free are free.
    const bool complete = facts_.complete || loose_.empty() || unowned_ != Unowned::leave;
    const fat::CopyMerge merge(g_, media, facts_.owned, complete);
    for (const std::uint32_t copy : facts_.differing_copies) mend_copy(merge, copy);
    if (facts_.head_wrong) draft_.set_entry(g_.active_fat, 0, 0xFFFFFF00 | media);
    if (facts_.boot_copy_differs) {
      const std::uint64_t at = std::uint64_t{g_.backup_boot} * ratio_;
      put(at, fat::merged_boot_copy(first, device_.read(partition_.start + at, ratio_)));
    }
  }

  void put(std::uint64_t at, ByteView bytes) {
    const std::size_t size = device_.sector_size();
    for (std::size_t i = 0; i < bytes.size() / size; ++i) {
      const ByteView sector = bytes.subspan(i * size, size);
      draft_.at(at + i).assign(sector.begin(), sector.end());
    }
  }

  // Of FAT12 an entry may be in two sectors: all of it at once, it is short.
  void mend_copy(const fat::CopyMerge& merge, std::uint32_t copy) {
    const std::uint64_t sectors = std::uint64_t{g_.fat_sectors} * ratio_;
    const std::uint64_t piece = g_.kind == VolumeKind::fat12 ? sectors : 1;
    for (std::uint64_t i = 0; i < sectors; i += piece) {
      const std::uint64_t lba = g_.fat_start(copy) * ratio_ + i;
      const Bytes good =
          device_.read(partition_.start + g_.fat_start(g_.active_fat) * ratio_ + i, piece);
      Bytes other = device_.read(partition_.start + lba, piece);
      if (other == good) continue;
      if (merge.merge(i * device_.sector_size(), good, other).decided > 0) put(lba, other);
    }
  }

  void mend_chains() {
    for (const fat::Facts::Size& s : facts_.sizes) {
      const std::uint64_t needed = div_up<std::uint64_t>(s.size, g_.cluster_bytes());
      if (s.clusters > needed) {
        if (unowned_ != Unowned::leave) cut_chain(s, needed);
      } else {
        cut_size(s);
      }
    }
  }

  // What is behind the file's end is a chain without an owner then: who knows which of the two is
  // right.
  void cut_chain(const fat::Facts::Size& s, std::uint64_t needed) {
    fat::Facts::Chain rest;
    std::uint64_t left = needed;
    for (const fat::ClusterRange& r : s.chain) {
      const auto own = static_cast<std::uint32_t>(std::min<std::uint64_t>(left, r.count));
      left -= own;
      if (own > 0 && left == 0 && rest.ranges.empty())
        draft_.set_entry(r.first + own - 1, fat::end_of_chain);
      if (own < r.count) rest.ranges.push_back({r.first + own, r.count - own});
    }
    rest.first = rest.ranges.front().first;
    if (needed == 0) put_entry(s, 0);
    loose_.push_back(std::move(rest));
  }

  void cut_size(const fat::Facts::Size& s) {
    const std::uint64_t size = s.clusters * g_.cluster_bytes();
    put_entry(s, static_cast<std::uint32_t>(size));
    out_.changes.push_back({.kind = ExpectedChange::Kind::resized,
                            .partition = partition_.id,
                            .path = s.path,
                            .size = size});
    out_.consent(ConsentCode::size, partition_.id,
                 fmt::format("'{}' gets the size that its chain holds", printable(s.path)),
                 fmt::format("{} bytes instead of {}{}", size, s.size,
                             facts_.unowned.empty() ? ""
                                                    : ". The rest may be among the clusters that "
                                                      "belong to no file: --unowned keep"));
  }

  void put_entry(const fat::Facts::Size& s, std::uint32_t size) {
    const std::uint64_t byte = s.entry_sector * g_.sector_bytes + s.entry_offset;
    Bytes& sector = draft_.at(byte / device_.sector_size());
    const std::size_t at = byte % device_.sector_size();
    auto entry = base::load<fat::DirEntry>(sector, at);
    fat::set_size(entry, size);
    base::store(entry, sector, at);
  }

  void free_loose() {
    for (const fat::Facts::Chain& chain : loose_) {
      for (const fat::ClusterRange& r : chain.ranges) {
        for (std::uint32_t i = 0; i < r.count; ++i) {
          draft_.set_entry(r.first + i, 0);
          ++freed_;
        }
      }
    }
  }

  // A folder in the root with a file for every chain. False where it can't be.
  bool keep_loose() {
    const std::size_t per_cluster = g_.cluster_bytes() / sizeof(fat::DirEntry);
    const bool sound = std::all_of(loose_.begin(), loose_.end(),
                                   [](const fat::Facts::Chain& c) { return c.sound; });
    const auto place = free_root_entry();
    if (!sound || facts_.first_free == 0 || !place || loose_.size() + 2 > per_cluster) {
      out_.obstacle(ObstacleCode::keep_unowned,
                    fmt::format("{} unowned chains of partition {} can't be kept as files: {}",
                                loose_.size(), partition_.number,
                                !sound                   ? "some of them don't end as chains do"
                                : facts_.first_free == 0 ? "no cluster is free"
                                : !place ? "the root folder has no free entry, or a name UNOWNED"
                                         : "there are more than one cluster of entries holds"),
                    "Say --unowned free, or check the volume under the system that owns it", 0,
                    partition_.number);
      return false;
    }
    const std::uint32_t cluster = facts_.first_free;
    draft_.set_entry(cluster, fat::end_of_chain);
    --freed_;
    Bytes folder(g_.cluster_bytes());
    base::store(fat::new_entry(".", fat::attr_directory, cluster, 0), folder, 0);
    base::store(fat::new_entry("..", fat::attr_directory, 0, 0), folder, 32);
    std::size_t at = 64;
    unsigned number = 0;
    for (const fat::Facts::Chain& chain : loose_) {
      std::uint64_t clusters = 0;
      for (const fat::ClusterRange& r : chain.ranges) clusters += r.count;
      const std::uint64_t size = std::min<std::uint64_t>(clusters * g_.cluster_bytes(), 0xFFFFFFFF);
      base::store(fat::new_entry(fmt::format("CHAIN{:03}BIN", ++number), attr_archive, chain.first,
                                 static_cast<std::uint32_t>(size)),
                  folder, at);
      at += sizeof(fat::DirEntry);
    }
    const std::uint32_t size = device_.sector_size();
    for (std::size_t i = 0; i < folder.size() / size; ++i) {
      draft_.at(sector_of(cluster) + i)
          .assign(folder.begin() + static_cast<std::ptrdiff_t>(i * size),
                  folder.begin() + static_cast<std::ptrdiff_t>((i + 1) * size));
    }
    base::store(fat::new_entry(kept_folder, fat::attr_directory, cluster, 0),
                draft_.at(place->first), place->second);
    root_entry_lba_ = partition_.start + place->first;
    out_.changes.push_back(
        {.kind = ExpectedChange::Kind::added, .partition = partition_.id, .path = kept_folder});
    return true;
  }

  // Sector and offset of an unused entry of the root; none when the name is taken.
  std::optional<std::pair<std::uint64_t, std::size_t>> free_root_entry() {
    std::vector<SectorRange> places;
    if (g_.kind == VolumeKind::fat32) {
      const Window window(device_, partition_.range());
      const fat::Map map(window, g_, g_.active_fat);
      base::Budget budget = map.budget();
      for (const fat::ClusterRange& r : map.chain(g_.root_cluster, budget).ranges)
        places.push_back(
            {sector_of(r.first), std::uint64_t{r.count} * g_.cluster_sectors * ratio_});
    } else {
      places.push_back({g_.root_start() * ratio_, std::uint64_t{g_.root_sectors} * ratio_});
    }
    std::optional<std::pair<std::uint64_t, std::size_t>> out;
    const fat::DirEntry wanted = fat::new_entry(kept_folder, fat::attr_directory, 0, 0);
    for (const SectorRange& place : places) {
      for (std::uint64_t lba = place.first; lba < place.end(); ++lba) {
        const Bytes sector = device_.read(partition_.start + lba);
        for (std::size_t at = 0; at < sector.size(); at += sizeof(fat::DirEntry)) {
          const auto entry = base::load<fat::DirEntry>(sector, at);
          if (entry.DIR_Name == wanted.DIR_Name) return std::nullopt;
          const std::uint8_t first = entry.DIR_Name[0];
          if (!out && (first == fat::entry_end || first == fat::entry_deleted)) out = {lba, at};
          if (first == fat::entry_end) return out;
        }
      }
    }
    return out;
  }

  void mend_info() {
    const bool stale = freed_ != 0 && g_.kind == VolumeKind::fat32 && g_.fs_info != 0;
    if (!facts_.info_wrong && !stale) return;
    Bytes& sector = draft_.at(std::uint64_t{g_.fs_info} * ratio_);
    auto info = base::load<fat::FsInfo>(sector);
    info.FSI_LeadSig = 0x41615252u;
    info.FSI_StrucSig = 0x61417272u;
    info.FSI_TrailSig = 0xAA550000u;
    info.FSI_Free_Count = static_cast<std::uint32_t>(std::int64_t{facts_.free_clusters} + freed_);
    info.FSI_Nxt_Free = 0xFFFFFFFFu;
    base::store(info, sector);
  }

  const PlanInput& in_;
  const Device& device_;
  const Partition& partition_;
  const fat::Facts& facts_;
  const fat::Geometry& g_;
  std::uint32_t ratio_;
  Unowned unowned_;
  PlanPart out_;
  fat::Draft draft_;
  std::vector<fat::Facts::Chain> loose_;  // unowned, or behind the ends of files
  std::int64_t freed_ = 0;
  std::uint64_t root_entry_lba_ = 0;
};

}  // namespace

PlanPart plan_fat_mends(const PlanInput& in, const Survey& survey, Unowned unowned,
                        const std::set<PartitionId>& left_alone) {
  PlanPart out;
  for (const SurveyedPartition& s : survey.partitions) {
    if (left_alone.contains(s.partition.id)) continue;
    if (!is_fat(s.signature.kind) || s.partition.role == Role::extended) continue;
    const bool any = std::any_of(s.findings.begin(), s.findings.end(),
                                 [](const Finding& f) { return f.repairable; });
    if (!any || s.beyond_mending()) continue;  // what is beyond mending is said by the check itself
    const Window window(in.device, s.partition.range());
    fat::Facts facts;
    (void)fat::check_volume(window, in.options, &facts);
    out.append(FatMender(in, s.partition, facts, unowned).plan());
  }
  return out;
}

}  // namespace nuvrat::plan

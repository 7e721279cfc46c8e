#include "fat/search.h"

#include <algorithm>
#include <numeric>
#include <vector>

namespace nuvrat::fat {
namespace {

constexpr std::uint64_t max_reserved = 65535;
constexpr std::uint64_t max_clusters = 0x0FFFFFF5 - 1;
constexpr std::uint64_t max_root_entries = 65535;

// How many sectors before a place are in use, for any place in front of `end`.
class InUse {
 public:
  InUse(const SectorSet& free, std::uint64_t end) {
    std::uint64_t at = 0;
    std::uint64_t sum = 0;
    for (const SectorRange& r : free) {
      if (r.first >= end) break;
      sum += r.first - at;
      marks_.push_back({at, r.first, sum});
      at = r.end();
    }
    marks_.push_back({at, std::max(at, end), sum + std::max(at, end) - at});
  }

  [[nodiscard]] std::uint64_t before(std::uint64_t sector) const {
    const auto it = std::upper_bound(marks_.begin(), marks_.end(), sector,
                                     [](std::uint64_t s, const Mark& m) { return s < m.begin; });
    if (it == marks_.begin()) return 0;
    const Mark& m = *(it - 1);
    return sector >= m.end ? m.sum : m.sum - (m.end - sector);
  }
  [[nodiscard]] std::uint64_t in(std::uint64_t first, std::uint64_t end) const {
    return end <= first ? 0 : before(end) - before(first);
  }

 private:
  struct Mark {
    std::uint64_t begin, end;  // in use
    std::uint64_t sum;         // up to `end`
  };
  std::vector<Mark> marks_;
};

// The smallest FAT for this start of the data area; false where there is no such volume.
bool fill(const LayoutWish& wish, std::uint64_t data, std::uint64_t total, Geometry& g) {
  const std::uint64_t clusters = (total - data) / wish.cluster_sectors;
  if (clusters == 0 || clusters > max_clusters || kind_for(clusters) != wish.kind ||
      is_near_limit(clusters))
    return false;
  g.clusters = static_cast<std::uint32_t>(clusters);
  g.fat_sectors = static_cast<std::uint32_t>(div_up<std::uint64_t>(fat_bytes(g), g.sector_bytes));
  const std::uint64_t behind = std::uint64_t{g.fats} * g.fat_sectors + g.root_sectors;
  if (data < behind + wish.min_reserved || data - behind > max_reserved) return false;
  g.reserved_sectors = static_cast<std::uint32_t>(data - behind);
  return true;
}

}  // namespace

std::vector<LayoutChoice> place_fats(const LayoutWish& wish, std::size_t most) {
  const std::uint64_t total = std::min<std::uint64_t>(wish.sectors, 0xFFFFFFFF);
  Geometry g;
  g.kind = wish.kind;
  g.sector_bytes = wish.sector_bytes;
  g.cluster_sectors = wish.cluster_sectors;
  g.total_sectors = total;
  g.fats = 2;
  if (wish.kind == VolumeKind::fat32) {
    g.fs_info = 1;
    g.backup_boot = 6;
  } else {
    const std::uint64_t a_sector = wish.sector_bytes / 32;
    const std::uint64_t entries =
        div_up(std::max<std::uint64_t>(wish.root_entries, 512), a_sector) * a_sector;
    if (entries > max_root_entries) return {};
    g.root_entries = static_cast<std::uint32_t>(entries);
    g.root_sectors = static_cast<std::uint32_t>(entries / a_sector);
  }
  // The latest start that could be: all sectors clusters, and as many reserved as can be.
  Geometry largest = g;
  largest.clusters = static_cast<std::uint32_t>(
      std::min<std::uint64_t>(total / wish.cluster_sectors, max_clusters));
  const std::uint64_t max_fat = div_up<std::uint64_t>(fat_bytes(largest), wish.sector_bytes);
  const std::uint64_t end =
      std::min(total, max_reserved + 2 * max_fat + g.root_sectors + wish.grid_step);
  const InUse in_use(*wish.free, end);
  // Larger clusters than the old ones begin anywhere on the old grid; smaller ones also between.
  const std::uint64_t step = std::min<std::uint64_t>(wish.cluster_sectors, wish.grid_step);
  std::vector<LayoutChoice> best;
  for (std::uint64_t data = wish.grid % step; data < end; data += step) {
    if (!fill(wish, data, total, g)) continue;
    LayoutChoice here{g, in_use.in(g.reserved_sectors, data), in_use.in(wish.min_reserved, data)};
    here.in_front -= here.in_the_way;
    if (here.in_the_way > 0 && !wish.make_way) continue;
    if (wish.make_way && wish.fixed.first_overlap({g.reserved_sectors, data - g.reserved_sectors}))
      continue;
    // Contents in the way are read and written once as well, by a rewrite of their own. Sectors
    // left in front of the FATs are lost for good.
    const auto cost = [&wish](const LayoutChoice& p) {
      return 2 * (p.in_the_way + p.geometry.reserved_sectors - wish.min_reserved) + p.in_front;
    };
    const auto at = std::upper_bound(
        best.begin(), best.end(), here,
        [cost](const LayoutChoice& a, const LayoutChoice& b) { return cost(a) < cost(b); });
    if (static_cast<std::size_t>(at - best.begin()) >= most) continue;
    best.insert(at, here);
    if (best.size() > most) best.pop_back();
  }
  return best;
}

}  // namespace nuvrat::fat

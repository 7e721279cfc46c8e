// The search for a place for FATs, against every place there is.

#include "fat/search.h"

#include <doctest/doctest.h>

#include <nuvrat/random.h>

using namespace nuvrat;

namespace {

std::uint64_t in_use(const SectorSet& free, std::uint64_t first, std::uint64_t end) {
  std::uint64_t out = 0;
  for (std::uint64_t s = first; s < end; ++s) out += free.contains({s, 1}) ? 0 : 1;
  return out;
}

// The least cost of all reserved counts and FAT sizes, by the definition; none where there is none.
std::optional<std::uint64_t> min_cost(const fat::LayoutWish& wish) {
  std::optional<std::uint64_t> best;
  const std::uint64_t bits = wish.kind == VolumeKind::fat12   ? 12
                             : wish.kind == VolumeKind::fat16 ? 16
                                                              : 32;
  const std::uint64_t root = wish.kind == VolumeKind::fat32
                                 ? 0
                                 : div_up(std::max<std::uint64_t>(wish.root_entries, 512) * 32,
                                          std::uint64_t{wish.sector_bytes});
  const std::uint64_t step = std::min<std::uint64_t>(wish.cluster_sectors, wish.grid_step);
  for (std::uint64_t reserved = wish.min_reserved; reserved < 65536 && reserved < wish.sectors;
       ++reserved) {
    for (std::uint64_t fat = 1; reserved + 2 * fat + root < wish.sectors; ++fat) {
      const std::uint64_t data = reserved + 2 * fat + root;
      const std::uint64_t clusters = (wish.sectors - data) / wish.cluster_sectors;
      if (fat * wish.sector_bytes * 8 < (clusters + 2) * bits) continue;
      // The smallest that does; a longer one only takes more.
      if (data % step == wish.grid % step && fat::kind_for(clusters) == wish.kind && clusters > 0) {
        const std::uint64_t way = in_use(*wish.free, reserved, data);
        const std::uint64_t cost = 2 * (way + reserved - wish.min_reserved) +
                                   in_use(*wish.free, wish.min_reserved, reserved);
        // Not where a count that is a little off would make it another kind.
        const bool near = fat::kind_for(clusters - 16) != fat::kind_for(clusters + 15);
        if (!near && (way == 0 || wish.make_way) && (!best || cost < *best)) best = cost;
      }
      break;
    }
  }
  return best;
}

}  // namespace

TEST_CASE("search: on small volumes no place costs less than the one that is found") {
  Random random(17);
  int found = 0, none = 0;
  for (int round = 0; round < 100; ++round) {
    fat::LayoutWish wish;
    wish.kind = random.below(3) == 0 ? VolumeKind::fat16 : VolumeKind::fat12;
    wish.cluster_sectors = 1u << random.below(3);
    wish.sectors = wish.kind == VolumeKind::fat12
                       ? 300 + random.below(3000)
                       : (4200 + random.below(400)) * wish.cluster_sectors;
    wish.grid_step = std::uint64_t{1} << random.below(4);
    wish.grid = random.below(wish.grid_step * 3);
    wish.min_reserved = 1 + random.below(10);
    wish.make_way = random.below(2) == 0;
    SectorSet free;
    for (std::uint64_t at = random.below(30); at < wish.sectors;) {
      const std::uint64_t count = 1 + random.below(random.below(4) == 0 ? 400 : 60);
      free.add({at, std::min(count, wish.sectors - at)});
      at += count + 1 + random.below(20);
    }
    wish.free = &free;
    const auto places = fat::place_fats(wish, 3);
    const auto least = min_cost(wish);
    CAPTURE(round);
    REQUIRE(places.empty() == !least.has_value());
    if (!least) {
      ++none;
      continue;
    }
    ++found;
    const fat::LayoutChoice& p = places[0];
    const fat::Geometry& g = p.geometry;
    CHECK(2 * (p.in_the_way + g.reserved_sectors - wish.min_reserved) + p.in_front == *least);
    CHECK(in_use(free, g.reserved_sectors, g.data_start()) == p.in_the_way);
    CHECK(g.data_start() + std::uint64_t{g.clusters} * g.cluster_sectors <= wish.sectors);
  }
  CHECK(found > 40);
  CHECK(none > 0);
}

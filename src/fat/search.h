#pragma once
// Where the FATs of a new volume go: a search over the start of the data area, the size of a
// cluster given.
//
// The data area begins on the grid of the old clusters, so that contents stay. In front of it lie
// the FATs, on sectors that are free, and in front of these as many reserved sectors as 16 bits can
// count.

#include <vector>

#include <nuvrat/sectors.h>

#include "fat/boot.h"

namespace nuvrat::fat {

struct LayoutWish {
  VolumeKind kind = VolumeKind::fat32;
  std::uint32_t sector_bytes = 512;
  std::uint64_t sectors = 0;  ///< of the partition
  std::uint32_t cluster_sectors = 8;
  std::uint64_t grid = 0;            ///< a sector where a cluster of the old grid begins
  std::uint64_t grid_step = 8;       ///< sectors of a cluster of the old grid
  std::uint64_t root_entries = 512;  ///< of a fixed root folder, at least
  std::uint64_t min_reserved = 1;    ///< sectors in front of which no FAT may begin
  const SectorSet* free = nullptr;   ///< sectors that may be written before the switch
  bool make_way = false;             ///< the FATs' sectors may be in use: what is there moves first
  SectorSet fixed{};                 ///< but not these
};

struct LayoutChoice {
  Geometry geometry;
  std::uint64_t in_the_way = 0;  ///< sectors in use where the FATs are to be
  std::uint64_t in_front = 0;    ///< sectors in use in front of the data area, those apart
};

/// Places, those first where the least is in use; at most `most`. None where there is no such
/// volume, or no free place.
[[nodiscard]] std::vector<LayoutChoice> place_fats(const LayoutWish& wish, std::size_t most);

}  // namespace nuvrat::fat

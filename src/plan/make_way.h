#pragma once
// Room in one piece on a FAT volume, by moving contents of files.

#include <optional>
#include <vector>

#include "steps/kinds.h"

namespace nuvrat::plan {

/// Steps that free `wanted` neighbouring sectors inside `within` of the FAT volume that the
/// conversion is about, played through on `ahead`. The clusters that move; none where it can't be
/// done.
[[nodiscard]] std::optional<std::uint64_t> make_way(Device& ahead, const VolumeChange& conversion,
                                                    std::uint64_t wanted, SectorRange within,
                                                    std::vector<steps::FatMakeWay>& out);

}  // namespace nuvrat::plan

#pragma once
// Which partitions can be logical, and where their EBRs go. Pure arithmetic: no device, no format.
//
// In an MBR the logicals are neighbours in disk order (the extended partition is one range, and no
// primary may lie in it), and each needs a free sector of its own for its EBR, in front of it and
// after the partition before the first of them. So there are at most n(n+1)/2+1 choices of who is
// logical, and for each the EBRs fit exactly when, for every k, the gaps in front of the first k
// logicals hold k free sectors.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/layout.h>

namespace nuvrat::plan {

struct ArrangeRequest {
  std::vector<Partition> partitions;   ///< all that hold data, in disk order, none overlapping
  SectorSet free;                      ///< sectors without an owner
  std::map<PartitionId, Role> wanted;  ///< primary or logical; who isn't named may be either
};

struct Arrangement {
  std::size_t first = 0;            ///< index of the first logical
  std::vector<std::uint64_t> ebrs;  ///< one for each logical, ascending; empty: none is logical

  [[nodiscard]] bool is_logical(std::size_t index) const {
    return index >= first && index - first < ebrs.size();
  }
};

/// The arrangement with the fewest logicals, those at the end of the disk before others; none when
/// nothing works.
[[nodiscard]] std::optional<Arrangement> arrange(const ArrangeRequest& request);

/// Free sectors that are missing for the logicals from index `first` to `last`: where the count
/// falls short first, and by how much. Nothing missing: none.
struct Shortage {
  std::size_t index = 0;  ///< the partition in front of which there is no room
  std::uint64_t missing = 0;
};
[[nodiscard]] Shortage shortage(const ArrangeRequest& request, std::size_t first, std::size_t last);

}  // namespace nuvrat::plan

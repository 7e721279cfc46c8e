#pragma once
// Goals drawn at random, for disks of any table.

#include <string>

#include <nuvrat/nuvrat.h>

namespace support {

/// One goal about one of the disk's partitions, a gap or the table; many contradict the disk.
[[nodiscard]] std::string random_goal(nuvrat::Random& random, const nuvrat::Layout& layout);

}  // namespace support

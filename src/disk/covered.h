#pragma once
// How much of a disk its partitions may cover together before it is plain that they overlap: what
// is read of a table in ruins stays in proportion to the disk.

#include <nuvrat/device.h>
#include <nuvrat/layout.h>

namespace nuvrat {

class CoveredSectors {
 public:
  explicit CoveredSectors(const Device& device) : most_(4 * device.sectors()) {}
  /// False when this partition covers more than was left.
  [[nodiscard]] bool take(const Partition& p) {
    if (p.sectors > most_) return false;
    most_ -= p.sectors;
    return true;
  }

 private:
  std::uint64_t most_;
};

}  // namespace nuvrat

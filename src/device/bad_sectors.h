#pragma once
// Sectors that a device could not give, so that it isn't asked for them again and again: a failing
// disk takes seconds over each, and every try may be its last.

#include <optional>

#include <nuvrat/sectors.h>

namespace nuvrat::device {

class BadSectors {
 public:
  void add(std::uint64_t lba) { sectors_.add({lba, 1}); }
  void forget(SectorRange range) {
    if (!sectors_.empty()) sectors_.remove(range);
  }
  [[nodiscard]] std::optional<std::uint64_t> first_in(SectorRange range) const {
    const auto there = sectors_.first_overlap(range);
    if (!there) return std::nullopt;
    return std::max(there->first, range.first);
  }

 private:
  SectorSet sectors_;
};

}  // namespace nuvrat::device

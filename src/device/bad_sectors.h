#pragma once
// Sectors that a device could not give, so that it isn't asked for them again and again: a failing
// disk takes seconds over each, and every try may be its last.

#include <atomic>
#include <mutex>
#include <optional>

#include <nuvrat/sectors.h>

namespace nuvrat::device {

/// May be used by several threads.
class BadSectors {
 public:
  void add(std::uint64_t lba) {
    const std::lock_guard held(mutex_);
    sectors_.add({lba, 1});
    any_ = true;
  }
  void forget(SectorRange range) {
    if (!any_) return;
    const std::lock_guard held(mutex_);
    sectors_.remove(range);
    any_ = !sectors_.empty();
  }
  [[nodiscard]] std::optional<std::uint64_t> first_in(SectorRange range) const {
    if (!any_) return std::nullopt;
    const std::lock_guard held(mutex_);
    const auto there = sectors_.first_overlap(range);
    if (!there) return std::nullopt;
    return std::max(there->first, range.first);
  }

 private:
  mutable std::mutex mutex_;
  std::atomic<bool> any_ = false;
  SectorSet sectors_;
};

}  // namespace nuvrat::device

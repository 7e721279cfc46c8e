#pragma once
// The disk as it will be while a plan grows: what later steps are planned from.

#include <memory>
#include <vector>

#include <nuvrat/device.h>

#include "disk/disk_state.h"

namespace nuvrat::plan {

/// Steps are played on an overlay only when the disk after them is asked for: the last ones of
/// a plan never are.
class PlannedDisk {
 public:
  /// The device must outlive it, and is only read.
  PlannedDisk(const Device& device, disk::DiskState state)
      : device_(device), state_(std::move(state)) {}

  /// Adds steps that come after those that were added.
  void add(const std::vector<Step>& steps);
  [[nodiscard]] const disk::DiskState& state() const { return state_; }
  /// The disk before any of them.
  [[nodiscard]] const Device& device_before() const { return device_; }
  /// The disk after all steps so far, and what its volumes say there.
  [[nodiscard]] const Device& device(const ReadOptions& options);

 private:
  const Device& device_;
  disk::DiskState state_;
  std::vector<Step> waiting_;
  std::unique_ptr<Overlay> overlay_;
};

}  // namespace nuvrat::plan

#pragma once
// Goals about starting: boot=uefi, boot=legacy, esp=SIZE, pN.letter=X; and what follows partitions
// that are called otherwise afterwards: boot stores and drive letters.

#include <optional>
#include <vector>

#include "boot/identity.h"
#include "boot/store.h"
#include "plan/plan.h"

namespace nuvrat::plan {

/// What else must be done so that firmware can start the system: ways to try, the one that takes
/// least first. Empty, with obstacles, where none can work. Without a goal of boot the wishes
/// alone.
[[nodiscard]] std::vector<Wishes> ways_to_start(const PlanInput& input, const ReadOptions& options,
                                                Assessment& out);

/// What partitions are called afterwards, by what they were called.
class Renamed {
 public:
  /// Partitions of `before`, and what they are called in `after`.
  Renamed(const Layout& before, const Layout& after, const std::vector<ExpectedChange>& changes);
  /// The name now; none: not of this disk, or gone.
  [[nodiscard]] std::optional<boot::PartitionName> operator()(const boot::PartitionName& old) const;
  [[nodiscard]] bool any() const { return any_; }

 private:
  const Layout& after_;
  std::vector<std::pair<boot::PartitionName, std::optional<boot::PartitionName>>> names_;
  bool any_ = false;
};

/// The boot files, their languages and fonts, and the store, for firmware of either way; what the
/// system's own folders lack is an obstacle. `place`:
/// the partition that they are for, by what it is called then; `there`: what is on it now, or null.
[[nodiscard]] std::vector<tree::PutFile> boot_files_for(const PlanInput& input,
                                                        const ReadOptions& options, StartWay way,
                                                        const boot::PartitionName& place,
                                                        const Partition* there,
                                                        const Renamed& names, Assessment& out);

/// A consent where the store names devices in a form that isn't known here.
void tell_odd(const boot::ChangedStore& store, Assessment& out);

/// Stores and letters on the disk as it is in `input`: steps that put them right. With a goal of
/// boot, what starts the disk then is in `out.start`.
void plan_starts(const PlanInput& input, const ReadOptions& options, const Renamed& names,
                 Assessment& out);

/// A system that would be on FAT: one that the disk starts is an obstacle, another one is to be
/// agreed to.
void check_systems_stay(const disk::DiskState& before, const Wishes& wishes, Assessment& out);

/// Looks at the disk as it will be. Where it started before, and won't, or where the store starts
/// something else first: that, to be agreed to. Where it was to start, and nothing would be found:
/// an obstacle.
void check_start(const Device& planned, const disk::DiskState& after, const Systems& before,
                 const Wishes& wishes, const ReadOptions& options, Assessment& out);

/// A partition of this type is an EFI system partition with a volume that firmware reads.
[[nodiscard]] bool is_efi_volume(const SurveyedPartition& s);

}  // namespace nuvrat::plan

#pragma once
// Goals about booting: boot=uefi, boot=legacy, esp=SIZE, pN.letter=X; and what follows partitions
// that are called otherwise afterwards: boot stores and drive letters.

#include <optional>
#include <vector>

#include "boot/identity.h"
#include "boot/store.h"
#include "plan/room.h"

namespace nuvrat::plan {

/// What firmware is to boot the system by.
struct BootTarget {
  std::optional<BootWay> way{};                 ///< none: nobody asked
  std::optional<NewEfi> make_efi{};             ///< its id and files: known with its table
  PartitionId efi = PartitionId::none;          ///< the EFI system partition that is there
  PartitionId legacy_from = PartitionId::none;  ///< the one that legacy firmware is to boot
  bool start_code = false;                      ///< LBA 0 needs code
};

/// Goals that may do what was asked: those that were, and what follows from them.
struct Way {
  goals::Asked asked{};
  BootTarget boot{};
};
struct Ways {
  std::vector<Way>
      ways{};       ///< the one that takes least first; empty, with obstacles: none can work
  PlanPart part{};  ///< obstacles, and what every way is to be agreed to; no steps
};
/// What else must be done so that firmware can boot the system. Without a goal of boot what was
/// asked, alone.
[[nodiscard]] Ways ways_to_boot(const PlanInput& input, const goals::Asked& asked);

/// What partitions are called afterwards, by what they were called.
class Renamed {
 public:
  /// Partitions of `before`, and what they are called in `after`.
  Renamed(const Layout& before, const Layout& after);
  /// The name now; none: not of this disk, or gone.
  [[nodiscard]] std::optional<boot::PartitionName> operator()(const boot::PartitionName& old) const;
  [[nodiscard]] bool any() const { return any_; }

 private:
  const Layout& after_;
  std::vector<std::pair<boot::PartitionName, std::optional<boot::PartitionName>>> names_;
  bool any_ = false;
};

/// The partition that boot files are for.
struct BootPlace {
  BootWay way = BootWay::uefi;
  boot::PartitionName name{};        ///< what it is called then
  const Partition* there = nullptr;  ///< what is there now; null: nothing yet
};
struct BootFileSet {
  std::vector<tree::PutFile> files{};
  PlanPart part{};  ///< what the system's own folders lack is an obstacle; no steps
};
/// The boot files, their languages and fonts, and the store.
[[nodiscard]] BootFileSet boot_files_for(const PlanInput& input, const BootPlace& place,
                                         const Renamed& names);

/// A consent where the store names devices in a form that isn't known here.
[[nodiscard]] PlanPart tell_odd(const boot::ChangedStore& store);

/// Stores and letters on the disk as it is in `input`: steps that put them right. With a goal of
/// boot, what boots the disk then is in the part's `boot`.
[[nodiscard]] PlanPart plan_boot_files(const PlanInput& input, const Way& way,
                                       const Renamed& names);

/// A system that would be on FAT: one that the disk boots is an obstacle, another one is to be
/// agreed to.
/// Whether firmware may boot something from the disk: a system was found, a partition is active or
/// one of firmware's own, or a volume may hold a system that Nuvrat doesn't know.
[[nodiscard]] bool may_boot(const disk::DiskState& state);
/// To be agreed to where the table becomes another kind: what firmware can boot the disk then.
/// `way`: of a goal of boot.
[[nodiscard]] PlanPart tell_other_table(const disk::DiskState& before, const Layout& after,
                                        std::optional<BootWay> way);
[[nodiscard]] PlanPart check_systems_stay(const disk::DiskState& before, const goals::Asked& asked);

/// Looks at the disk of `input`, on which everything is done. Where it booted before, and won't, or
/// where the store starts something else first: that, to be agreed to. Where it was to boot, and
/// nothing would be found: an obstacle.
[[nodiscard]] PlanPart check_boots(const PlanInput& input, const Systems& before,
                                   const goals::Asked& asked);

/// A partition of this type is an EFI system partition with a volume that firmware reads.
[[nodiscard]] bool is_efi_volume(const SurveyedPartition& s);

}  // namespace nuvrat::plan

#pragma once
// One rewrite of a chain, described so that it can be made again at any time from the description
// alone: that is what a case keeps.
//
// A Step is a value; copies share what they hold. Each kind of step is one file in src/steps.

#include <memory>
#include <optional>
#include <string>

#include <nuvrat/device.h>
#include <nuvrat/layout.h>
#include <nuvrat/time.h>
#include <nuvrat/volume_kind.h>

namespace NUVRAT_API nuvrat {

class Rewrite;
namespace steps {
struct Work;
}

/// The change that a step makes to a volume.
struct VolumeChange {
  SectorRange place;        ///< the partition, or the whole disk, as it is before
  std::uint64_t front = 0;  ///< sectors in front of it that the volume gains
  std::uint64_t serial = 0;
  Ticks made = 0;           ///< the time that new system files bear
  std::string zone;         ///< of FAT's local times
  unsigned codepage = 437;  ///< of FAT's short names
  VolumeKind from = VolumeKind::unknown;
  VolumeKind to = VolumeKind::unknown;
  bool anew = false;    ///< its structures are all made; otherwise it is changed in place
  unsigned number = 0;  ///< the partition's, before everything; 0: without a table
  std::uint64_t cluster_bytes = 0;  ///< of the new volume, as the next ones
  std::uint64_t needed_clusters = 0, free_clusters = 0, moved_clusters = 0;
  std::uint64_t log_bytes = 0;
  std::uint64_t writes = 0;  ///< sectors that it will write, and nothing twice

  /// Where it is when the step is done.
  [[nodiscard]] SectorRange new_place() const { return {place.first - front, place.count + front}; }
};

class Step {
 public:
  /// `target`: the layout when it is done.
  Step(Layout target, steps::Work work);

  /// Stable: "table-gpt", "fat-to-ntfs" …; docs/formats/case.md lists them.
  [[nodiscard]] std::string code() const;
  /// In words: "MBR to GPT".
  [[nodiscard]] std::string name() const;
  /// The parts of volumes that it writes, in words: "boot sectors"; empty for nothing.
  [[nodiscard]] std::string touches() const;
  [[nodiscard]] const Layout& target() const { return target_; }
  /// The volume that it is about; null for a step about the table.
  [[nodiscard]] const VolumeChange* volume() const;
  /// The partition that the volume is on, as its target names it; none where no table does.
  [[nodiscard]] PartitionId partition() const;
  [[nodiscard]] const steps::Work& work() const { return *work_; }

 private:
  Layout target_;
  std::shared_ptr<const steps::Work> work_;
};

/// The rewrite that a step describes. `device` is the disk that it reads; it must outlive it.
/// Errors as Device::read; refused or guard when the disk isn't the one that was planned for.
[[nodiscard]] std::unique_ptr<Rewrite> make_rewrite(const Step& step, const Device& device);

/// The sectors that live structures own, for the guard: the table, and every partition as a whole.
[[nodiscard]] SectorSet owned_sectors(const Device& device);
/// The same for one step, which must outlive it: of the volume that the step rewrites, the sectors
/// that the volume's own structures and files own.
class OwnedBy {
 public:
  explicit OwnedBy(const Step& step) : step_(step) {}
  [[nodiscard]] SectorSet operator()(const Device& device) const;

 private:
  const Step& step_;
};

/// A step that was cut off after its switch, as the disk alone shows it: for a lost case.
struct UnfinishedStep {
  Step step;
  bool whole = false;  ///< all of it is done again, not only its settle
  std::string left;    ///< what is left to do, as a sentence
};
[[nodiscard]] std::optional<UnfinishedStep> find_unfinished(const Device& device);

}  // namespace nuvrat

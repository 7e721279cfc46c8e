#pragma once
// Whether the goals are in reach on this very disk: what is in the way, what is lost, which
// chain of rewrites gets there, and what the disk will look like.

#include <cstdint>
#include <string>
#include <vector>

#include <nuvrat/expected_change.h>
#include <nuvrat/goal.h>
#include <nuvrat/random.h>
#include <nuvrat/step.h>
#include <nuvrat/survey.h>

namespace NUVRAT_API nuvrat {

/// Why a goal can't be reached, with its number and what would lift it.
struct Obstacle {
  ObstacleCode code = ObstacleCode::already;
  std::optional<Rule> finding;  ///< of damage: what was found
  std::string text;             ///< what and where
  std::string remedy;           ///< what would lift it: the best way, a line
  std::string otherwise{};      ///< another way, where the remedy is goals; or empty
  std::uint64_t missing_sectors = 0;
  unsigned partition = 0;   ///< the number of the one it is about, or 0
  std::vector<Goal> goals;  ///< goals that would work instead, where the remedy is that
};

/// The stable name of its code, or of the rule that was found broken.
[[nodiscard]] const char* name_of(const Obstacle& obstacle);

/// Something the owner loses or must do, and must agree to.
struct Consent {
  ConsentCode code = ConsentCode::gone;
  PartitionId partition = PartitionId::none;  ///< whose; none: the whole disk's
  std::string text{};    ///< one short sentence whose subject is the partition; no full stop
  std::string detail{};  ///< further sentences, or empty
};

/// A partition's number before and after.
struct Renumbering {
  unsigned before = 0;
  unsigned after = 0;
};

/// The contents of a partition, for the maps: before and after.
struct Contents {
  PartitionId partition = PartitionId::none;  ///< none: of a disk without a table
  std::string kind{};                         ///< "fat32", or what the volume is in words
  std::string label{};
  std::string kind_after{};  ///< the same, unless the volume is rewritten; empty of what goes
  /// A new one has no volume before, one that is gone none after.
  enum class Fate { stays, added, gone } fate = Fate::stays;
};

[[nodiscard]] const char* name_of(Contents::Fate fate);

/// How firmware starts the disk once a plan with a goal of boot is done, by the numbers that
/// partitions have then.
struct BootChange {
  BootWay way = BootWay::uefi;
  unsigned boot_files = 0;  ///< where they are: an EFI system partition, or the active one
  unsigned system = 0;
  Machine machine = Machine::unknown;
  unsigned spare = 0;  ///< held what started it before, and nothing else: it can go; 0: none
};

struct Assessment {
  std::vector<Goal> goals;
  std::string tag;
  DeviceIdentity device;
  Layout before;
  Layout after;  ///< equal to `before` when there are obstacles
  std::vector<Contents> contents;
  Findings findings;  ///< what the check saw before anything was planned
  std::vector<Obstacle> obstacles;
  std::vector<Consent> consents;  ///< by rank, the gravest first
  std::vector<Step> steps;
  std::vector<ExpectedChange> changes;  ///< of files, that the comparison must find
  std::optional<BootChange> boot;       ///< of a plan with a goal of boot
  std::uint64_t files_bytes = 0;        ///< contents to read, twice: before and after
  std::uint64_t sectors_to_write = 0;   ///< by the rewrites themselves
  double expected_seconds = 0;          ///< at the speed that this device showed just now
  double seconds_by_places = 0;         ///< the same, compared by places

  [[nodiscard]] bool in_reach() const { return obstacles.empty(); }
  /// Of partitions that are there before and after, in disk order.
  [[nodiscard]] std::vector<Renumbering> numbers() const;
  /// Refers to `changes`.
  [[nodiscard]] Expectation expectation() const;
  /// "p1": by its number now or, of a new one, afterwards; empty of the whole disk.
  [[nodiscard]] std::string subject_of(const Consent& consent) const;
  /// "p1: its type becomes 07 (NTFS or exFAT). It is …": all that is known, no full stop.
  [[nodiscard]] std::string text_of(const Consent& consent) const;
};

/// Throws Error (words) for goals that can't be said of any disk. `random` gives new identities.
[[nodiscard]] Assessment assess(const Device& device, const std::vector<Goal>& goals,
                                const ReadOptions& options, Random& random);

/// The same with identities from the operating system's generator.
[[nodiscard]] Assessment assess(const Device& device, const std::vector<Goal>& goals,
                                const ReadOptions& options = {});

/// Every goal that makes sense on this disk, each assessed by itself. Throws Error (words) for a
/// table of more partitions than that could be done for.
[[nodiscard]] std::vector<Assessment> assess_all(const Device& device, const ReadOptions& options,
                                                 Random& random);

/// The fate of clusters that no file has.
enum class Unowned { leave, free, keep };

/// Mends with nothing lost (`check --repair`), as a chain of steps. Of the table: a GPT whose
/// backup is missing, damaged or not at the end, whose primary is damaged while the backup is good,
/// or whose protective MBR is missing or wrong; a chain of EBRs that leads outside its container.
/// Where the table is sound: a wrong start in the boot sector of an MBR's active partition; of FAT
/// volumes FSInfo, second boot sectors, FATs that differ from the one that the files agree with,
/// sizes that are longer than chains, and, as told, unowned chains and what chains hold behind
/// their files' ends. No steps: nothing of the kind. Errors of the table that need a person's
/// decision become obstacles; a volume that has one is left alone.
[[nodiscard]] Assessment assess_repair(const Device& device, const ReadOptions& options,
                                       Unowned unowned = Unowned::leave);

}  // namespace nuvrat

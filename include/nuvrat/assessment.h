#pragma once
// Whether the goals are in reach on this very disk: what stands in the way, what is lost, which
// chain of rewrites gets there, and what the disk will look like.

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/goal.h>
#include <nuvrat/random.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/survey.h>

namespace nuvrat {

/// Why a goal can't be reached, with its number and what would lift it.
struct Obstacle {
  std::string code;    ///< stable: "front-room", "back-room", "not-clean" …
  std::string text;    ///< what and where
  std::string remedy;  ///< what would lift it
  std::uint64_t missing_sectors = 0;
  unsigned partition = 0;   ///< the number of the one it is about, or 0
  std::vector<Goal> goals;  ///< goals that would work instead, where the remedy is that
};

/// Something the owner loses or must do, and must agree to.
struct Consent {
  std::string code;
  std::string text;
};

struct Renumbering {
  unsigned before = 0;
  unsigned after = 0;
};

/// What a volume's rewrite needs besides the volume itself, so that it comes out the same each
/// time.
struct VolumeChange {
  SectorRange place;  ///< the partition, or the whole disk; empty in steps about tables
  std::uint64_t serial = 0;
  Ticks made = 0;           ///< the time that new system files bear
  std::string zone;         ///< of FAT's local times
  unsigned codepage = 437;  ///< of FAT's short names
  VolumeKind from = VolumeKind::unknown;
  VolumeKind to = VolumeKind::unknown;
  unsigned number = 0;              ///< the partition's, before everything; 0: without a table
  std::uint64_t cluster_bytes = 0;  ///< of the new volume
  std::uint64_t needed_clusters = 0, free_clusters = 0, moved_clusters = 0;
  std::uint64_t log_bytes = 0;
  std::uint64_t writes = 0;  ///< sectors that it will write, and nothing twice
};

/// Contents that a step copies to sectors that are free.
struct SectorMove {
  SectorRange from;
  std::uint64_t to = 0;
};

/// One rewrite of the chain, described so that it can be made again at any time, from the
/// description alone: the description is what a case keeps.
struct Step {
  /// "fat-to-ntfs" (a volume), "fat-mend" (what check --repair does to one), "fat-make-way"
  /// (clusters of files moved, so that what must lie in one piece finds room), "table-gpt",
  /// "table-mbr", "gpt-aside" (the changed table in a second array), "gpt-home" (from there back to
  /// LBA 2, and the backup), "gpt-mend" (a damaged copy), "boot-sector" (a field of a volume's boot
  /// sector), "ebr-type" (the type of a logical partition).
  std::string kind;
  Layout target;                   ///< the layout that it leaves
  std::vector<SectorRange> wipes;  ///< what its settle wipes
  Bytes sector0;                   ///< LBA 0 as it was: what stays of it
  bool new_chain = false;          ///< table-mbr: EBRs are written; otherwise the chain stays
  std::uint64_t lba = 0;           ///< gpt-aside: of the second array; otherwise of `sector`
  Bytes sector;                    ///< boot-sector, ebr-type: what it becomes
  /// gpt-mend: which copy is written anew; with neither, only LBA 0 is.
  enum class Mends { neither, primary, backup } mends = Mends::neither;
  std::vector<std::uint64_t> copies;  ///< boot-sector: where second copies of it lie
  VolumeChange volume;                ///< fat-to-ntfs
  /// fat-mend, fat-make-way: sectors written before the switch (`lba`, `sector`) and behind it,
  /// each right by itself.
  std::vector<SectorWrite> before, behind;
  std::vector<SectorMove> moves;  ///< fat-make-way: contents, copied before anything else
  std::string title;              ///< fat-mend: what it does, in words
  std::string adds;               ///< fat-mend: the folder that it makes in the root, if any

  /// In words: "MBR to GPT".
  [[nodiscard]] std::string name() const;
};

/// What lies where, for the maps: the same before and after.
struct Contents {
  std::uint64_t start = 0;
  std::string kind;  ///< "fat32", or what the volume is in words
  std::string label;
  std::string kind_after;  ///< the same, unless the volume is rewritten
};

/// A file that a mend makes as long as its chain.
struct Resized {
  std::uint64_t start = 0;  ///< of the partition
  std::string path;
  std::uint64_t size = 0;
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
  std::vector<Consent> consents;
  std::vector<Renumbering> numbers;
  std::vector<Step> steps;
  std::vector<Resized> resized;
  std::uint64_t files_bytes = 0;       ///< contents to read, twice: before and after
  std::uint64_t sectors_to_write = 0;  ///< by the rewrites themselves
  double expected_seconds = 0;         ///< at the speed that this device showed just now

  [[nodiscard]] bool in_reach() const { return obstacles.empty(); }
};

/// Throws Error (words) for goals that can't be said of any disk. `random` gives new identities.
[[nodiscard]] Assessment assess(Device& device, const std::vector<Goal>& goals,
                                const ReadOptions& options, Random& random);

/// Every goal that makes sense on this disk, each assessed by itself. Throws Error (words) for a
/// table of more partitions than that could be done for.
[[nodiscard]] std::vector<Assessment> assess_all(Device& device, const ReadOptions& options,
                                                 Random& random);

/// What becomes of clusters that no file has.
enum class Unowned { leave, free, keep };

/// What `check --repair` can mend with nothing lost, as a chain of steps. Of the table: a GPT whose
/// backup is missing, damaged or not at the end, whose primary is damaged while the backup is good,
/// or whose protective MBR is missing or wrong; a chain of EBRs that leads outside its container.
/// Where the table is sound, of FAT volumes: FSInfo, second boot sectors, FATs that differ from the
/// one that the files agree with, sizes that disagree with chains, and, as told, unowned chains. No
/// steps: nothing of the kind. Errors of the table that need a person's decision become obstacles;
/// a volume that has one is left alone.
[[nodiscard]] Assessment assess_repair(Device& device, const ReadOptions& options,
                                       Unowned unowned = Unowned::leave);

/// The rewrite that a step describes. `device` is the disk that it reads; it must outlive it.
[[nodiscard]] std::unique_ptr<Rewrite> make_rewrite(const Step& step, Device& device);

/// What a disk shows of a rewrite whose settle was cut off; none when it shows nothing of the kind.
[[nodiscard]] std::optional<Step> find_unfinished(Device& device);

/// What the live structures own, for the guard: the table, and every partition as a whole.
[[nodiscard]] SectorSet owned_sectors(Device& device);
/// The same for one step: of the volume that it rewrites, what the volume's own structures and
/// files own.
[[nodiscard]] OwnedSectors owned_for(const Step& step);

}  // namespace nuvrat

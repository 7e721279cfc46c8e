#pragma once
// What the planners share: the goals sorted by what they are about, and the surveyed disk.

#include <map>
#include <optional>
#include <set>

#include <nuvrat/assessment.h>

#include "disk/disk_state.h"
#include "tree/put_file.h"

namespace nuvrat::steps {
struct EditNtfs;
}

namespace nuvrat::plan {

/// What a volume is to become.
struct VolumeWish {
  std::optional<VolumeKind> kind;
  std::uint32_t cluster_bytes = 0;     ///< 0: whatever serves best
  std::uint64_t sectors = 0;           ///< how long; 0: as the partition
  std::uint64_t front = 0;             ///< sectors that it begins earlier
  std::vector<tree::PutFile> files{};  ///< put on it
};

/// How long a partition and its volume are to be.
struct SizeWish {
  enum class Kind { exactly, more, less, max, min };
  Kind kind = Kind::exactly;
  std::uint64_t bytes = 0;
  bool operator==(const SizeWish&) const = default;
};

/// A new partition in a gap.
struct GapWish {
  VolumeKind kind = VolumeKind::unknown;  ///< unknown: nothing is written there
  std::uint64_t bytes = 0;                ///< 0: all of the gap
  bool efi_system = false;                ///< an EFI system partition, with files
  bool operator==(const GapWish&) const = default;
};

/// An EFI system partition in whatever gap there is.
struct EfiWish {
  std::uint64_t bytes = 0;  ///< as wished
  std::uint64_t least = 0;  ///< what will do
  Guid id{};                ///< what it is called, and its files: known with its table
  std::vector<tree::PutFile> files{};
};

/// The goals by subject. Partition numbers are those of the disk as it is.
struct Wishes {
  std::optional<TableKind> table;
  std::map<unsigned, Role> roles;
  std::map<unsigned, bool> active;
  std::map<unsigned, std::string> names;
  bool safe_names = false;                  ///< names that FAT can't spell may become others
  std::map<unsigned, VolumeWish> volumes;   ///< 0: the one without a table
  std::map<unsigned, PartitionType> types;  ///< those that shall match, with what they become
  std::map<unsigned, SizeWish> sizes;
  std::map<unsigned, SizeWish> fronts;     ///< how much longer at the front
  std::map<unsigned, std::string> labels;  ///< of volumes; 0: of the one without a table
  std::set<unsigned> gone;
  std::optional<StartWay> boot;      ///< how firmware is to start the system
  std::uint64_t esp = 0;             ///< how long an EFI system partition is to be, in bytes
  std::map<unsigned, char> letters;  ///< drive letters that systems on the disk are to give
  // What these come to.
  std::optional<EfiWish> make_efi;
  std::optional<std::uint64_t> efi_start;     ///< the EFI system partition that is there
  std::optional<std::uint64_t> legacy_start;  ///< the partition that legacy firmware starts
  bool start_code = false;                    ///< LBA 0 needs code
  std::map<unsigned, GapWish> gaps;  ///< numbers of gaps on the disk as the other goals leave it
  // Of the table, once it is known what the sizes come to.
  std::map<unsigned, std::uint64_t> lengths;  ///< in sectors, of partitions that get another
  std::map<unsigned, std::uint64_t>
      starts;  ///< of partitions that begin earlier, and end as before
  /// New ones, with numbers from here on until the table gives them others.
  static constexpr unsigned first_made = 10000;
  std::vector<Partition> made;

  /// Nothing but the kind of table is wished for, of the table.
  [[nodiscard]] bool only_table() const {
    return roles.empty() && active.empty() && names.empty() && types.empty() && gone.empty() &&
           lengths.empty() && starts.empty() && made.empty() && !start_code;
  }
  [[nodiscard]] bool any_of_table() const { return table || !only_table(); }
};

/// Throws Error (words) for two goals that contradict each other, or a partition that isn't there.
[[nodiscard]] Wishes sort_goals(const std::vector<Goal>& goals, const disk::DiskState& state);

/// What a planner plans from. It adds to an assessment: steps, or obstacles; consents; numbers.
struct PlanInput {
  const Device& device;
  const disk::DiskState& state;
  const Wishes& wishes;
  Random& random;
};

/// A FAT volume becomes NTFS.
void plan_volume_ntfs(const PlanInput& input, const ReadOptions& options, unsigned number,
                      Assessment& out);
/// A volume becomes FAT, or gets clusters of another size.
void plan_volume_fat(const PlanInput& input, const ReadOptions& options, unsigned number,
                     const VolumeWish& wish, Assessment& out);
/// A FAT or NTFS volume gets another length: `sectors`, its second boot sector included, at most
/// those of its partition.
void plan_volume_size(const PlanInput& input, const ReadOptions& options, unsigned number,
                      std::uint64_t sectors, Assessment& out);
/// A volume and its partition begin earlier, in the room that the disk of `input` has there.
void plan_front(const PlanInput& input, const ReadOptions& options, unsigned number,
                const SizeWish& wish, Assessment& out);
/// A volume gets another label.
void plan_volume_label(const PlanInput& input, const ReadOptions& options, unsigned number,
                       const std::string& label, Assessment& out);
/// The fewest sectors that the volume can be made to have, and at most `most`; to a thousandth.
[[nodiscard]] std::uint64_t min_sectors(const PlanInput& input, const ReadOptions& options,
                                        unsigned number, std::uint64_t most);
/// The most sectors that a volume of this kind and size of cluster can count, that one included.
[[nodiscard]] std::uint64_t max_sectors(const SurveyedPartition& s, std::uint32_t sector_bytes);
/// What a step changes of a volume that stays what it is: its place, and how it is read.
[[nodiscard]] VolumeChange change_in_place(const SurveyedPartition& s, const ReadOptions& options);
/// NTFS or FAT, and read.
[[nodiscard]] bool is_editable(const SurveyedPartition& s);
/// A consent where an NTFS volume has restore points, which the change spoils.
void tell_snapshots(const Device& volume, unsigned number, Assessment& out);
/// An edit of an NTFS volume laid out; false, with an obstacle, where it can't be done. `doing`:
/// the beginning of what is said then.
bool lay_out_edit(const PlanInput& input, const SurveyedPartition& s, steps::EditNtfs& work,
                  const std::string& doing, Assessment& out);
/// Whether its kind can count that many sectors; false, with an obstacle, where it can't.
bool can_count(const PlanInput& input, const SurveyedPartition& s, std::uint64_t sectors,
               Assessment& out);
/// "partition 3", or "the volume" of a disk without a table.
[[nodiscard]] std::string volume_words(unsigned number);
/// Sectors of a volume as it is, its second boot sector included.
[[nodiscard]] std::uint64_t length_of(const SurveyedPartition& s);

/// What the sizes that are wished come to, in sectors and by number; obstacles where there is no
/// room.
[[nodiscard]] std::map<unsigned, std::uint64_t> resolve_sizes(const PlanInput& input,
                                                              const ReadOptions& options,
                                                              Assessment& out);
/// Steps for new partitions in gaps of the disk as it is in `input`, and what is in them.
void plan_new_partitions(const PlanInput& input, const ReadOptions& options, Assessment& out);
/// The table that the wishes ask for.
void plan_table(const PlanInput& input, Assessment& out);

/// All of it, stage by stage, each planned from the disk as the ones before leave it. Whether the
/// figures of the steps make sense.
bool plan_stages(const Device& device, disk::DiskState before, const Wishes& wishes,
                 const ReadOptions& options, Random& random, Assessment& out);

/// A consent where long names of a FAT volume are damaged: what is made anew has the short ones.
void tell_broken_names(const SurveyedPartition& volume, Assessment& out);
/// Obstacles to every rewrite of the disk: systems that are hibernated on one of its volumes.
[[nodiscard]] std::vector<Obstacle> find_asleep(const Device& device, const Survey& survey,
                                                const ReadOptions& options);

// Tables in two halves: the layout that is wanted, and the steps from the one that there is to it.

/// An MBR becomes a GPT.
void plan_table_gpt(const PlanInput& input, Assessment& out);
/// A GPT becomes an MBR, or an MBR gets other roles or another active partition.
/// `repair`: the same roles with a container and a chain made anew, whatever is wrong with the old.
void plan_table_mbr(const PlanInput& input, Assessment& out, bool repair = false);
/// Obstacles for partitions that are where a GPT of 128 entries has its sectors, or beyond them.
void require_room_for_gpt(const Layout& target, Assessment& out);
/// Names, types and the legacy-bootable attribute inside a GPT.
void plan_gpt_change(const PlanInput& input, Assessment& out);

/// The steps from the table as it is to this layout, and in `out.after` the layout that they end
/// in: an MBR may have its EBRs in better places. Boot sectors of volumes follow. An obstacle where
/// there is no room for what is written on the way. `new_chain`: EBRs are made anew whether or not
/// a role changes.
void add_table_steps(const PlanInput& input, const Layout& target, bool new_chain, Assessment& out);
void add_mbr_steps(const PlanInput& input, const Layout& target, bool new_chain, Assessment& out);
void add_gpt_change_steps(const PlanInput& input, const Layout& target, Assessment& out);

/// A step that lets a volume's boot sector say where the volume begins; none where it does.
void set_start(const Device& device, const Layout& layout, const SurveyedPartition& volume,
               Assessment& out);
/// The same for volumes that begin elsewhere, by their table, than they did, and for what legacy
/// firmware starts.
void follow_hidden_sectors(const PlanInput& input, const Layout& after, Assessment& out);

/// check --repair for FAT volumes, but those that begin at `left_alone`.
void plan_fat_mends(const Device& device, const Survey& survey, const ReadOptions& options,
                    Unowned unowned, const std::set<std::uint64_t>& left_alone, Assessment& out);
/// The same for a volume of whose two boot sectors, or first records, one is lost; false where none
/// is.
bool plan_copy_mend(const Device& device, const SurveyedPartition& volume,
                    const ReadOptions& options, Assessment& out);

/// The disk as it is: table, tag, contents, findings; nothing planned.
[[nodiscard]] Assessment start_assessment(const Survey& survey);

/// Bytes a second that this machine showed just now.
struct Pace {
  double read = 0;  ///< from this device; 0: nothing could be read
  double hash = 0;  ///< on one core
};
/// Reads a sample from where files are, 32 MiB at most, and hashes some of it.
[[nodiscard]] Pace measure_pace(const Device& device, const Survey& survey);
/// The expected time, of either proof; `volume_sectors`: written in volumes.
void estimate_time(const Device& device, const Survey& survey, const Pace& pace,
                   std::uint64_t volume_sectors, Assessment& out);

/// What becomes of contents, sectors to read and write, and the expected time.
void fill_figures(const Device& device, const Survey& survey, const Pace& pace, Assessment& out);

/// Numbers after one change of a table, and after the `next` one.
void follow_numbers(const std::vector<Renumbering>& next, std::vector<Renumbering>& numbers);

/// Obstacles that every change of a table has: errors among the findings.
void add_finding_obstacles(const disk::DiskState& state, Assessment& out);
void add_obstacle(Assessment& out, std::string code, std::string text, std::string remedy,
                  std::uint64_t missing = 0, unsigned partition = 0);

/// Leaves out what is to be gone, and sets the lengths; numbers are the old ones.
void apply_room(const Wishes& wishes, std::vector<Partition>& partitions);
/// Sets active, names and types as wished on a layout whose numbers are the old ones; one active at
/// most.
void apply_small_wishes(const Wishes& wishes, Layout& layout);

/// A new MBR gets code that starts the active partition: there is no code, and the disk had a GPT,
/// or is to start from it.
[[nodiscard]] bool gets_start_code(const TableReading& before, const Wishes& wishes);

/// False, with obstacles, where a layer of its own manages the disk, or it belongs to a RAID.
bool is_nobody_elses(const disk::DiskState& state, Assessment& out);
/// Consents, first of all, to what planned steps overwrite or take that no table, partition or
/// volume owns: `written` outside volumes, gaps, what is after a volume's end. An obstacle where
/// they write on a member of a RAID.
void tell_overwritten(const Device& device, const Survey& survey, const SectorSet& written,
                      Assessment& out);
}  // namespace nuvrat::plan

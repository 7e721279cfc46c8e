#pragma once
// The state that is wanted, said as a word of the form subject=state: "table=gpt".
//
// A Goal is one of the structs below, which can be made as they are or parsed from a word. Each has
// its file in src/goals. A new one is a struct here with its place in Goal::Any, its file, and what
// plans it; help, completion, messages, JSON and sentences follow.

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include <nuvrat/layout.h>
#include <nuvrat/systems.h>
#include <nuvrat/volume_kind.h>

namespace NUVRAT_API nuvrat {

namespace goals {
class Asked;
}
class Goal;
struct Obstacle;

/// The stages of a plan, in their order: a goal is planned from the disk as earlier ones leave it.
enum class GoalStage {
  volumes,  ///< what file systems become
  labels,
  sizes,  ///< what becomes shorter; what becomes longer waits for the table
  table,
  fronts,  ///< partitions that begin earlier
  gaps,    ///< new partitions
  boot,    ///< boot files, stores and drive letters
};

/// The subjects of goals, and the states there are: for help, completion and messages.
struct GoalWord {
  /// A state may also be this, besides the listed ones.
  enum class Free {
    nothing,
    text,
    size,    ///< SIZE, +SIZE or -SIZE
    more,    ///< +SIZE
    bytes,   ///< SIZE
    letter,  ///< of a drive: A to Z
    sized,   ///< a listed one with a size after it: "ntfs:20GiB"
  };
  /// With "pN" for any partition and "gN" for any gap: "table", "pN", "pN.active".
  std::string subject;
  std::vector<std::string> states;
  std::string meaning;  ///< in a few words: "the role of a partition in an MBR"
  Free free = Free::nothing;

  /// The choices, for help and messages: "gpt|mbr", "SIZE|+SIZE|-SIZE|max".
  [[nodiscard]] std::string choices() const;
};
/// A line for each subject.
[[nodiscard]] const std::vector<GoalWord>& goal_words();

// `partition`: its number on the disk as it is; where a volume is meant, 0 is the one of a disk
// without a table. What each struct has:
//   words      how it is said, of a partition first, then of a volume without a table
//   parse      from a state that was said; none: it isn't one of its states. May throw Error
//   (words) state      back to the word sentence   for people: "partition p3 is to be logical"
// and, where it applies: require_sense (throws Error (words) where the other goals, or a table of
// that kind, make none of it), instead (what might work where this is refused: these goals in its
// place; none: nothing comes to mind).

/// table=gpt: the kind of partition table.
struct TableGoal {
  TableKind kind = TableKind::gpt;
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<TableGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const TableGoal&) const = default;
};

/// p3=logical: the role of a partition in an MBR, primary or logical.
struct RoleGoal {
  unsigned partition = 0;
  Role role = Role::primary;
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<RoleGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const RoleGoal&) const = default;
};

/// p1=ntfs, volume=fat32: the file system.
struct KindGoal {
  unsigned partition = 0;
  VolumeKind kind = VolumeKind::ntfs;  ///< NTFS, FAT32 or FAT16
  static constexpr GoalStage stage = GoalStage::volumes;
  static const std::vector<GoalWord>& words();
  static std::optional<KindGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const KindGoal&) const = default;
};

/// p1=gone: a partition is deleted, with all that is on it.
struct GoneGoal {
  unsigned partition = 0;
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<GoneGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const GoneGoal&) const = default;
};

/// p1.cluster=4KiB: the size of clusters, on FAT.
struct ClusterGoal {
  unsigned partition = 0;
  std::uint32_t bytes = 4096;  ///< a power of two, 512 to 65536
  static constexpr GoalStage stage = GoalStage::volumes;
  static const std::vector<GoalWord>& words();
  static std::optional<ClusterGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const ClusterGoal&) const = default;
};

/// names=safe: names that FAT can't spell may become others.
struct SafeNamesGoal {
  static constexpr GoalStage stage = GoalStage::volumes;
  static const std::vector<GoalWord>& words();
  static std::optional<SafeNamesGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const SafeNamesGoal&) const = default;
};

/// p2.size=+20GiB: how long a partition and its volume become.
struct SizeGoal {
  enum class Kind { exactly, more, less, max, min };
  unsigned partition = 0;
  Kind kind = Kind::exactly;
  std::uint64_t bytes = 0;  ///< above 0, but for max and min
  static constexpr GoalStage stage = GoalStage::sizes;
  static const std::vector<GoalWord>& words();
  static std::optional<SizeGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  [[nodiscard]] std::optional<std::vector<Goal>> instead(const Obstacle& obstacle) const;
  bool operator==(const SizeGoal&) const = default;
};

/// p2.front=+5GiB: moves the start of a partition and its volume towards the front of the disk;
/// their end stays.
struct FrontGoal {
  unsigned partition = 0;
  std::optional<std::uint64_t> bytes;  ///< above 0; none: as early as there is room
  static constexpr GoalStage stage = GoalStage::fronts;
  static const std::vector<GoalWord>& words();
  static std::optional<FrontGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  [[nodiscard]] std::optional<std::vector<Goal>> instead(const Obstacle& obstacle) const;
  bool operator==(const FrontGoal&) const = default;
};

/// p1.label=TIDES: the label of a volume, up to 32 UTF-16 units; empty: none.
struct LabelGoal {
  unsigned partition = 0;
  std::string label{};
  static constexpr GoalStage stage = GoalStage::labels;
  static const std::vector<GoalWord>& words();
  static std::optional<LabelGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const LabelGoal&) const = default;
};

/// g1=ntfs:20GiB: a new partition in a gap of the disk as the other goals leave it.
struct GapGoal {
  unsigned gap = 1;
  VolumeKind kind = VolumeKind::unknown;  ///< unknown: nothing is written there ("raw")
  std::uint64_t bytes = 0;                ///< 0: all of the gap
  static constexpr GoalStage stage = GoalStage::gaps;
  static const std::vector<GoalWord>& words();
  static std::optional<GapGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const GapGoal&) const = default;
};

/// p1.active=yes: whether legacy firmware boots from it.
struct ActiveGoal {
  unsigned partition = 0;
  bool yes = true;
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<ActiveGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const ActiveGoal&) const = default;
};

/// p1.name=Tides: its name in a GPT, up to 36 UTF-16 units.
struct NameGoal {
  unsigned partition = 0;
  std::string name{};
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<NameGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const NameGoal&) const = default;
};

/// p1.type=match: the type that goes with its file system.
struct TypeGoal {
  unsigned partition = 0;
  static constexpr GoalStage stage = GoalStage::table;
  static const std::vector<GoalWord>& words();
  static std::optional<TypeGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const TypeGoal&) const = default;
};

/// boot=uefi: which firmware boots the system on the disk.
struct BootGoal {
  BootWay way = BootWay::uefi;
  static constexpr GoalStage stage = GoalStage::boot;
  static const std::vector<GoalWord>& words();
  static std::optional<BootGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  bool operator==(const BootGoal&) const = default;
};

/// esp=300MiB: how long a new EFI system partition is.
struct EspGoal {
  std::uint64_t bytes = 0;  ///< above 0
  static constexpr GoalStage stage = GoalStage::boot;
  static const std::vector<GoalWord>& words();
  static std::optional<EspGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  [[nodiscard]] std::optional<std::vector<Goal>> instead(const Obstacle& obstacle) const;
  bool operator==(const EspGoal&) const = default;
};

/// p2.letter=R: its drive letter in systems on the disk.
struct LetterGoal {
  unsigned partition = 0;
  char letter = 'C';  ///< A to Z
  static constexpr GoalStage stage = GoalStage::boot;
  static const std::vector<GoalWord>& words();
  static std::optional<LetterGoal> parse(unsigned number, std::string_view state);
  [[nodiscard]] std::string state() const;
  [[nodiscard]] std::string sentence() const;
  void require_sense(const goals::Asked& asked, TableKind table) const;
  bool operator==(const LetterGoal&) const = default;
};

class Goal {
 public:
  /// In the order of the help.
  using Any = std::variant<TableGoal, RoleGoal, KindGoal, GoneGoal, ClusterGoal, SafeNamesGoal,
                           SizeGoal, FrontGoal, LabelGoal, GapGoal, ActiveGoal, NameGoal, TypeGoal,
                           BootGoal, EspGoal, LetterGoal>;

  /// Of any of them.
  template <typename Kind>
  requires std::is_constructible_v<Any, Kind> Goal(Kind kind) : any_(std::move(kind)) {}

  [[nodiscard]] const Any& any() const { return any_; }
  /// Null where it is another kind of goal.
  template <typename Kind>
  [[nodiscard]] const Kind* as() const {
    return std::get_if<Kind>(&any_);
  }
  [[nodiscard]] GoalStage stage() const;
  /// The partition that it is about; 0: the volume of a disk without a table; none: anything else.
  [[nodiscard]] std::optional<unsigned> partition() const;
  /// "table", "p3", "p1.active", "g2", "volume"
  [[nodiscard]] std::string subject() const;
  /// "gpt", "logical", "yes"
  [[nodiscard]] std::string state() const;
  /// "table=gpt"
  [[nodiscard]] std::string text() const { return subject() + "=" + state(); }
  /// For people, without a full stop: "partition p3 is to be deleted".
  [[nodiscard]] std::string sentence() const;

  bool operator==(const Goal&) const = default;

 private:
  Any any_;
};

/// "table=gpt p1=ntfs"
[[nodiscard]] std::string texts_of(const std::vector<Goal>& goals);

/// Throws Error (words) for anything that isn't a goal, naming what is possible.
[[nodiscard]] Goal parse_goal(std::string_view word);
/// The same said of a disk with this table: a share of a partition, such as p2.size=20%, is refused
/// with the size that it would be.
[[nodiscard]] Goal parse_goal_for(std::string_view word, const Layout& layout);

}  // namespace nuvrat

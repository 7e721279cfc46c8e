#pragma once
// The state that is wanted, as a word of the form subject=state: "table=gpt".

#include <string>
#include <string_view>
#include <vector>

namespace nuvrat {

struct Goal {
  std::string subject;  ///< "table", "p3", "p1.active", "g2", "volume"
  std::string state;    ///< "gpt", "logical", "yes"

  [[nodiscard]] std::string text() const { return subject + "=" + state; }
  bool operator==(const Goal&) const = default;
};

/// What goals can be about, and the states there are: for help, completion and messages.
struct GoalWord {
  /// What a state may be besides the ones that are listed.
  enum class Free {
    nothing,
    name,    ///< a name in a GPT
    label,   ///< of a volume
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

  /// What can be said, for help and messages: "gpt|mbr", "SIZE|+SIZE|-SIZE|max".
  [[nodiscard]] std::string choices() const;
};
[[nodiscard]] const std::vector<GoalWord>& goal_words();

/// Throws Error (words) for anything that isn't a goal, naming what is possible.
[[nodiscard]] Goal parse_goal(std::string_view word);

}  // namespace nuvrat

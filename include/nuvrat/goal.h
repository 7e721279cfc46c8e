#pragma once
// The state that is wanted, as a word of the form subject=state: "table=gpt".

#include <string>
#include <string_view>
#include <vector>

namespace nuvrat {

struct Goal {
  std::string subject;  ///< "table", "p3", "p1.active", "volume"
  std::string state;    ///< "gpt", "logical", "yes"

  [[nodiscard]] std::string text() const { return subject + "=" + state; }
  bool operator==(const Goal&) const = default;
};

/// What goals can be about, and the states there are: for help, completion and messages.
struct GoalWord {
  std::string subject;              ///< with "pN" for any partition: "table", "pN", "pN.active"
  std::vector<std::string> states;  ///< empty: any text
  std::string meaning;              ///< in a few words: "the role of a partition in an MBR"
};
[[nodiscard]] const std::vector<GoalWord>& goal_words();

/// Throws Error (words) for anything that isn't a goal, naming what is possible.
[[nodiscard]] Goal parse_goal(std::string_view word);

}  // namespace nuvrat

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

/// Throws Error (words) for anything that isn't a goal, naming what is possible.
[[nodiscard]] Goal parse_goal(std::string_view word);

}  // namespace nuvrat

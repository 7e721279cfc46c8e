#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>

namespace nuvrat {

Goal parse_goal(std::string_view word) {
  const std::size_t equals = word.find('=');
  if (equals == word.npos || equals == 0 || equals + 1 == word.size()) {
    throw Error(ErrorCode::words, fmt::format("'{}' is not a goal", word), {},
                "A goal is the state that is wanted, such as table=gpt");
  }
  Goal goal{std::string(word.substr(0, equals)), std::string(word.substr(equals + 1))};
  if (goal.subject == "table" && goal.state == "gpt") return goal;
  if (goal.subject == "table") {
    throw Error(ErrorCode::words,
                fmt::format("'{}' is not a table that a disk can be given", goal.state), {},
                "Say table=gpt");
  }
  throw Error(ErrorCode::words,
              fmt::format("'{}' is not something that a goal can be about", goal.subject), {},
              "Say table=gpt");
}

}  // namespace nuvrat

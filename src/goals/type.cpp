// pN.type=match

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& TypeGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.type", {"match"}, "the type that goes with its file system"}};
  return words;
}

std::optional<TypeGoal> TypeGoal::parse(unsigned number, std::string_view state) {
  return state == "match" ? std::optional(TypeGoal{number}) : std::nullopt;
}

std::string TypeGoal::state() const {
  return "match";
}

std::string TypeGoal::sentence() const {
  return fmt::format("partition {} is to have the type that goes with its volume",
                     part_of(partition));
}
}  // namespace nuvrat

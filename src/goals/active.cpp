// pN.active=yes, pN.active=no

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& ActiveGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.active", {"yes", "no"}, "whether legacy firmware boots from it"}};
  return words;
}

std::optional<ActiveGoal> ActiveGoal::parse(unsigned number, std::string_view state) {
  if (!lists(words()[0], state)) return std::nullopt;
  return ActiveGoal{number, state == "yes"};
}

std::string ActiveGoal::state() const {
  return yes ? "yes" : "no";
}

std::string ActiveGoal::sentence() const {
  return fmt::format("partition {} is to be {}", part_of(partition), yes ? "active" : "not active");
}

void ActiveGoal::require_sense(const Asked& asked, TableKind) const {
  for (const ActiveGoal& other : asked.every<ActiveGoal>()) {
    if (yes && other.yes && other.partition != partition)
      makes_no_sense("at most one partition can be active", "Give one of them");
  }
}
}  // namespace nuvrat

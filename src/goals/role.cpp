// pN=primary, pN=logical

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& RoleGoal::words() {
  static const std::vector<GoalWord> words = {{"pN", {"primary", "logical"}, "its role in an MBR"}};
  return words;
}

std::optional<RoleGoal> RoleGoal::parse(unsigned number, std::string_view state) {
  for (const Role role : {Role::primary, Role::logical}) {
    if (state == name_of(role)) return RoleGoal{number, role};
  }
  return std::nullopt;
}

std::string RoleGoal::state() const {
  return name_of(role);
}

std::string RoleGoal::sentence() const {
  return fmt::format("partition {} is to be {}", part_of(partition), state());
}

void RoleGoal::require_sense(const Asked&, TableKind table) const {
  if (table == TableKind::gpt)
    makes_no_sense("a GPT knows neither primary nor logical partitions",
                   "Leave that goal out, or say table=mbr");
}
}  // namespace nuvrat

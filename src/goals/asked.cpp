#include "goals/asked.h"

#include <fmt/core.h>

#include <nuvrat/error.h>

namespace nuvrat::goals {
namespace {

// The same kind of goal, about the same partition or gap.
bool are_about_one(const Goal& a, const Goal& b) {
  return a.any().index() == b.any().index() && a.subject() == b.subject();
}

}  // namespace

Asked::Asked(const std::vector<Goal>& goals) {
  for (const Goal& goal : goals) add(goal);
}

void Asked::add(const Goal& goal) {
  for (const Goal& other : goals_) {
    if (other == goal) return;
    if (are_about_one(other, goal))
      throw Error(ErrorCode::words,
                  fmt::format("two goals contradict each other about {}", goal.subject()), {},
                  "Give one of them");
  }
  goals_.push_back(goal);
}

bool Asked::has(GoalStage stage) const {
  return std::any_of(goals_.begin(), goals_.end(),
                     [stage](const Goal& g) { return g.stage() == stage; });
}

void require_sense(const Asked& asked, TableKind table) {
  if (const auto* wanted = asked.find<TableGoal>()) table = wanted->kind;
  for (const Goal& goal : asked.all()) {
    std::visit(
        [&](const auto& kind) {
          if constexpr (requires { kind.require_sense(asked, table); })
            kind.require_sense(asked, table);
        },
        goal.any());
  }
}

}  // namespace nuvrat::goals

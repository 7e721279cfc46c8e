// pN.front=+5GiB, pN.front=max

#include <fmt/core.h>

#include <nuvrat/assessment.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& FrontGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.front", {"max"}, "moves its start towards the front of the disk", GoalWord::Free::more}};
  return words;
}

std::optional<FrontGoal> FrontGoal::parse(unsigned number, std::string_view state) {
  if (state == "max") return FrontGoal{number, std::nullopt};
  const auto bytes = state.starts_with('+') ? parse_size(state.substr(1)) : std::nullopt;
  return bytes ? std::optional(FrontGoal{number, bytes}) : std::nullopt;
}

std::string FrontGoal::state() const {
  return bytes ? "+" + size_word(*bytes) : "max";
}

std::string FrontGoal::sentence() const {
  return fmt::format("partition {} is to begin {}", part_of(partition),
                     bytes ? size_word(*bytes) + " earlier" : "as early as there is room");
}

void FrontGoal::require_sense(const Asked& asked, TableKind) const {
  const auto* size = asked.find<SizeGoal>(partition);
  if (size != nullptr && size->kind != SizeGoal::Kind::max)
    makes_no_sense(
        fmt::format("p{0}.front and p{0}.size both say how long p{0} becomes", partition),
        fmt::format("Give one of them, or p{}.size=max", partition));
}

std::optional<std::vector<Goal>> FrontGoal::instead(const Obstacle& o) const {
  if (o.partition != partition || o.code != ObstacleCode::front_space || !bytes)
    return std::nullopt;
  return std::vector<Goal>{FrontGoal{partition, std::nullopt}};
}
}  // namespace nuvrat

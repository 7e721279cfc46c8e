// names=safe

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& SafeNamesGoal::words() {
  static const std::vector<GoalWord> words = {
      {"names", {"safe"}, "names that FAT can't spell: others in their place"}};
  return words;
}

std::optional<SafeNamesGoal> SafeNamesGoal::parse(unsigned, std::string_view state) {
  return state == "safe" ? std::optional(SafeNamesGoal{}) : std::nullopt;
}

std::string SafeNamesGoal::state() const {
  return "safe";
}

std::string SafeNamesGoal::sentence() const {
  return "names that FAT can't spell may become others";
}

void SafeNamesGoal::require_sense(const Asked& asked, TableKind) const {
  if (asked.every<KindGoal>().empty() && asked.every<ClusterGoal>().empty())
    makes_no_sense("names are made safe when a volume becomes FAT",
                   "Say p1=fat32 as well, or leave that goal out");
}
}  // namespace nuvrat

// pN=gone

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

// The word shares its line of the help with other states of a partition.
const std::vector<GoalWord>& GoneGoal::words() {
  static const std::vector<GoalWord> words = {{"pN", {"gone"}, "or deleted"}};
  return words;
}

std::optional<GoneGoal> GoneGoal::parse(unsigned number, std::string_view state) {
  return state == "gone" ? std::optional(GoneGoal{number}) : std::nullopt;
}

std::string GoneGoal::state() const {
  return "gone";
}

std::string GoneGoal::sentence() const {
  return fmt::format("partition {} is to be deleted", part_of(partition));
}

void GoneGoal::require_sense(const Asked& asked, TableKind) const {
  for (const Goal& other : asked.all()) {
    if (other.partition() == partition && other.as<GoneGoal>() == nullptr)
      makes_no_sense(fmt::format("p{} is to be gone, and another goal is about it", partition),
                     "Give one of them");
  }
}
}  // namespace nuvrat

// boot=uefi, boot=legacy

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& BootGoal::words() {
  static const std::vector<GoalWord> words = {
      {"boot", {"uefi", "legacy"}, "which firmware boots the system on it"}};
  return words;
}

std::optional<BootGoal> BootGoal::parse(unsigned, std::string_view state) {
  if (!lists(words()[0], state)) return std::nullopt;
  return BootGoal{state == "uefi" ? BootWay::uefi : BootWay::legacy};
}

std::string BootGoal::state() const {
  return way == BootWay::uefi ? "uefi" : "legacy";
}

std::string BootGoal::sentence() const {
  return fmt::format("the system is to boot by {}",
                     way == BootWay::uefi ? "UEFI" : "legacy firmware");
}
}  // namespace nuvrat

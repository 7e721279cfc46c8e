// pN=ntfs, pN=fat32, volume=fat16

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& KindGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN", {"ntfs", "fat32", "fat16"}, "its file system"},
      {"volume", {"ntfs", "fat32", "fat16"}, "the file system of a disk without a table"}};
  return words;
}

std::optional<KindGoal> KindGoal::parse(unsigned number, std::string_view state) {
  if (!lists(words()[0], state)) return std::nullopt;
  return KindGoal{number, kind_named(std::string(state))};
}

std::string KindGoal::state() const {
  return name_of(kind);
}

std::string KindGoal::sentence() const {
  return fmt::format("{} is to be {}", volume_on(partition), in_capitals(state()));
}
}  // namespace nuvrat

// gN=ntfs:20GiB, gN=raw

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& GapGoal::words() {
  static const std::vector<GoalWord> words = {{"gN",
                                               {"ntfs", "fat32", "fat16", "raw"},
                                               "a new partition in a gap, such as ntfs:20GiB",
                                               GoalWord::Free::sized}};
  return words;
}

std::optional<GapGoal> GapGoal::parse(unsigned number, std::string_view state) {
  const std::size_t colon = std::min(state.find(':'), state.size());
  const std::string_view kind = state.substr(0, colon);
  if (!lists(words()[0], kind)) return std::nullopt;
  GapGoal out{.gap = number, .kind = kind_named(std::string(kind))};
  if (colon == state.size()) return out;
  const auto bytes = parse_size(state.substr(colon + 1));
  if (!bytes) return std::nullopt;
  out.bytes = *bytes;
  return out;
}

std::string GapGoal::state() const {
  return std::string(kind == VolumeKind::unknown ? "raw" : name_of(kind)) +
         (bytes == 0 ? "" : ":" + size_word(bytes));
}

std::string GapGoal::sentence() const {
  return fmt::format("the gap g{} is to become a partition{}{}", gap,
                     kind == VolumeKind::unknown
                         ? " on which nothing is written"
                         : fmt::format(" with {}", in_capitals(name_of(kind))),
                     bytes == 0 ? "" : " of " + size_word(bytes));
}
}  // namespace nuvrat

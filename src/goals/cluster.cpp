// pN.cluster=4KiB, volume.cluster=4KiB

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& ClusterGoal::words() {
  static const std::vector<std::string> sizes = {"512",  "1KiB",  "2KiB",  "4KiB",
                                                 "8KiB", "16KiB", "32KiB", "64KiB"};
  static const std::vector<GoalWord> words = {
      {"pN.cluster", sizes, "the size of its clusters, on FAT"},
      {"volume.cluster", sizes, "the same of a disk without a table"}};
  return words;
}

std::optional<ClusterGoal> ClusterGoal::parse(unsigned number, std::string_view state) {
  const auto bytes = parse_bytes(state);
  if (!bytes || *bytes > 65536) return std::nullopt;
  const ClusterGoal out{number, static_cast<std::uint32_t>(*bytes)};
  return lists(words()[0], out.state()) ? std::optional(out) : std::nullopt;
}

std::string ClusterGoal::state() const {
  return bytes < 1024 ? std::to_string(bytes) : fmt::format("{}KiB", bytes / 1024);
}

std::string ClusterGoal::sentence() const {
  return fmt::format("{} is to have clusters of {}", volume_on(partition),
                     bytes < 1024 ? fmt::format("{} bytes", bytes) : state());
}
}  // namespace nuvrat

#include "random_goals.h"

#include <fmt/core.h>

namespace support {

using namespace nuvrat;

namespace {

std::string pick(Random& random, std::initializer_list<const char*> words) {
  return *(words.begin() + static_cast<std::ptrdiff_t>(random.below(words.size())));
}

std::string size_state(Random& random) {
  switch (random.below(5)) {
    case 0:
      return "max";
    case 1:
      return "min";
    case 2:
      return fmt::format("{}KiB", 1500 + random.below(5000));
    default:
      return fmt::format("{}{}KiB", pick(random, {"+", "-"}), 1 + random.below(2500));
  }
}

}  // namespace

std::string random_goal(Random& random, const Layout& layout) {
  const auto parts = layout.data_partitions();
  const unsigned number = parts[random.below(parts.size())].number;
  switch (random.below(16)) {
    case 0:
      return "table=" + pick(random, {"gpt", "mbr"});
    case 1:
      return fmt::format("p{}={}", number,
                         pick(random, {"ntfs", "fat16", "fat32", "primary", "logical"}));
    case 2:
    case 3:
      return fmt::format("p{}=gone", number);
    case 4:
      return fmt::format("p{}.label={}", number, pick(random, {"BOJE", "Orrelune 3", "", "A B"}));
    case 5:
    case 6:
      return fmt::format("g{}={}{}", 1 + random.below(3), pick(random, {"ntfs", "fat16", "raw"}),
                         pick(random, {"", ":4MiB", ":6500KiB"}));
    case 7:
      return fmt::format("p{}.active=yes", number);
    case 10:
      return fmt::format("p{}.type=match", number);
    case 11:
      return fmt::format("p{}.cluster={}", number, pick(random, {"512", "1KiB", "4KiB"}));
    case 8:
    case 9:
      return fmt::format(
          "p{}.front={}", number,
          random.below(2) == 0 ? "max" : fmt::format("+{}KiB", 1 + random.below(2500)));
    default:
      return fmt::format("p{}.size={}", number, size_state(random));
  }
}

}  // namespace support

// pN.size=120GiB, pN.size=+20GiB, volume.size=min

#include <fmt/core.h>

#include <nuvrat/assessment.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& SizeGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.size", {"max", "min"}, "with its volume: 120GiB, +20GiB, -5GiB", GoalWord::Free::size},
      {"volume.size", {"max", "min"}, "the same of a disk without a table", GoalWord::Free::size}};
  return words;
}

std::optional<SizeGoal> SizeGoal::parse(unsigned number, std::string_view state) {
  if (state == "max") return SizeGoal{.partition = number, .kind = Kind::max};
  if (state == "min") return SizeGoal{.partition = number, .kind = Kind::min};
  const Kind kind = state.starts_with('+')   ? Kind::more
                    : state.starts_with('-') ? Kind::less
                                             : Kind::exactly;
  const auto bytes = parse_size(kind == Kind::exactly ? state : state.substr(1));
  if (!bytes) return std::nullopt;
  return SizeGoal{.partition = number, .kind = kind, .bytes = *bytes};
}

std::string SizeGoal::state() const {
  switch (kind) {
    case Kind::exactly:
      return size_word(bytes);
    case Kind::more:
      return "+" + size_word(bytes);
    case Kind::less:
      return "-" + size_word(bytes);
    case Kind::max:
      return "max";
    case Kind::min:
      return "min";
  }
  return "";
}

std::string SizeGoal::sentence() const {
  const std::string part = partition == 0 ? "the volume" : "partition " + part_of(partition);
  switch (kind) {
    case Kind::exactly:
      return fmt::format("{} is to be {} long", part, size_word(bytes));
    case Kind::more:
      return fmt::format("{} is to be {} longer", part, size_word(bytes));
    case Kind::less:
      return fmt::format("{} is to be {} shorter", part, size_word(bytes));
    case Kind::max:
      return part + " is to be as long as there is room";
    case Kind::min:
      return part + " is to be as short as its files allow";
  }
  return "";
}

std::optional<std::vector<Goal>> SizeGoal::instead(const Obstacle& o) const {
  if (o.partition != partition || kind == Kind::max || kind == Kind::min) return std::nullopt;
  const bool too_large = o.code == ObstacleCode::size_room || o.code == ObstacleCode::volume_size;
  const bool too_small = o.code == ObstacleCode::volume_room ||
                         o.code == ObstacleCode::front_in_use ||
                         o.code == ObstacleCode::cluster_count || o.code == ObstacleCode::size_zero;
  if (!too_large && !too_small) return std::nullopt;
  return std::vector<Goal>{
      SizeGoal{.partition = partition, .kind = too_large ? Kind::max : Kind::min}};
}
}  // namespace nuvrat

// esp=300MiB

#include <fmt/core.h>

#include <nuvrat/assessment.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& EspGoal::words() {
  static const std::vector<GoalWord> words = {
      {"esp", {}, "how long a new EFI system partition is", GoalWord::Free::bytes}};
  return words;
}

std::optional<EspGoal> EspGoal::parse(unsigned, std::string_view state) {
  const auto bytes = parse_size(state);
  return bytes ? std::optional(EspGoal{*bytes}) : std::nullopt;
}

std::string EspGoal::state() const {
  return size_word(bytes);
}

std::string EspGoal::sentence() const {
  return fmt::format("the EFI system partition is to be {} long", state());
}

void EspGoal::require_sense(const Asked& asked, TableKind) const {
  const auto* boot = asked.find<BootGoal>();
  if (boot == nullptr || boot->way != BootWay::uefi)
    makes_no_sense("an EFI system partition is made where firmware is to use it",
                   "Say boot=uefi as well, or leave that goal out");
}

// Too large for the room that there is, or too small for FAT32: whatever finds room.
std::optional<std::vector<Goal>> EspGoal::instead(const Obstacle& o) const {
  if (o.code != ObstacleCode::esp_room && o.code != ObstacleCode::volume_size) return std::nullopt;
  return std::vector<Goal>{};
}
}  // namespace nuvrat

// pN.label=TEXT, volume.label=TEXT

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& LabelGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.label", {}, "the label of its volume", GoalWord::Free::text},
      {"volume.label", {}, "the same of a disk without a table", GoalWord::Free::text}};
  return words;
}

// Up to 32 UTF-16 units, as NTFS has them; what FAT can spell is asked when the volume is known.
std::optional<LabelGoal> LabelGoal::parse(unsigned number, std::string_view state) {
  constexpr std::size_t max_units = 32;
  const std::string label(state);
  const std::u16string units = to_utf16(label);
  const bool fine = to_utf8(units) == label && is_well_formed(units) && units.size() <= max_units &&
                    std::none_of(units.begin(), units.end(), [](char16_t c) { return c < 0x20; });
  if (!fine)
    makes_no_sense(fmt::format("'{}' can't be a volume's label", printable(label)),
                   "Give up to 32 characters (UTF-16 units), none of them a control character");
  return LabelGoal{number, label};
}

std::string LabelGoal::state() const {
  return label;
}

std::string LabelGoal::sentence() const {
  return fmt::format("{} is to have {}", volume_on(partition),
                     label.empty() ? "no label" : "the label '" + printable(label) + "'");
}
}  // namespace nuvrat

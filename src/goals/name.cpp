// pN.name=TEXT

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& NameGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.name", {}, "its name in a GPT", GoalWord::Free::text}};
  return words;
}

// As an entry of a GPT can hold it, to the last character.
std::optional<NameGoal> NameGoal::parse(unsigned number, std::string_view state) {
  constexpr std::size_t max_units = 36;
  const std::string name(state);
  const std::u16string units = to_utf16(name);
  const auto wrong = [&name](const std::string& text) {
    makes_no_sense(fmt::format("'{}' can't be a partition's name: {}", printable(name), text),
                   "Give up to 36 characters (UTF-16 units), none of them a control character");
  };
  if (to_utf8(units) != name || !is_well_formed(units)) wrong("it is not well-formed UTF-8");
  if (units.size() > max_units)
    wrong(fmt::format("it has {} UTF-16 units, and {} fit", units.size(), max_units));
  if (std::any_of(units.begin(), units.end(),
                  [](char16_t c) { return c < 0x20 || (c >= 0x7F && c < 0xA0); }))
    wrong("it holds a control character");
  return NameGoal{number, name};
}

std::string NameGoal::state() const {
  return name;
}

std::string NameGoal::sentence() const {
  return fmt::format("partition {} is to have the name '{}'", part_of(partition), printable(name));
}

void NameGoal::require_sense(const Asked&, TableKind table) const {
  if (table == TableKind::mbr)
    makes_no_sense("an MBR holds no names of partitions", "Leave that goal out, or say table=gpt");
}
}  // namespace nuvrat

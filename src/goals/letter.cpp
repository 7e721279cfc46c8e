// pN.letter=R

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& LetterGoal::words() {
  static const std::vector<GoalWord> words = {
      {"pN.letter", {}, "its drive letter in systems on the disk", GoalWord::Free::letter}};
  return words;
}

std::optional<LetterGoal> LetterGoal::parse(unsigned number, std::string_view state) {
  std::string letter = in_capitals(std::string(state));
  if (letter.ends_with('\\')) letter.pop_back();
  if (letter.ends_with(':')) letter.pop_back();
  if (letter.size() != 1 || letter[0] < 'A' || letter[0] > 'Z') return std::nullopt;
  return LetterGoal{number, letter[0]};
}

std::string LetterGoal::state() const {
  return {letter};
}

std::string LetterGoal::sentence() const {
  return fmt::format("partition {} is to have the drive letter {}", part_of(partition), letter);
}

void LetterGoal::require_sense(const Asked& asked, TableKind) const {
  for (const LetterGoal& other : asked.every<LetterGoal>()) {
    if (other.letter == letter && other.partition != partition)
      makes_no_sense(fmt::format("two partitions are to have the letter {}", letter),
                     "Give one of them");
  }
}
}  // namespace nuvrat

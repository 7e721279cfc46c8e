#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>
#include <nuvrat/text.h>

#include "base/ascii.h"

namespace nuvrat {
namespace {

// "pN.active" for "p3.active", "gN" for "g2"; other words as they are.
std::string general(std::string_view subject) {
  const std::size_t dot = std::min(subject.find('.'), subject.size());
  const std::string_view part = subject.substr(0, dot);
  const bool numbered = part.size() > 1 && part.size() < 5 && (part[0] == 'p' || part[0] == 'g') &&
                        part[1] != '0' && part.find_first_not_of("0123456789", 1) == part.npos;
  if (numbered) return part[0] + ("N" + std::string(subject.substr(dot)));
  return part == "pN" || part == "gN" ? "" : std::string(subject);  // not a number
}

// "table=gpt or table=mbr"
std::string listed(const std::string& subject, const std::vector<std::string>& states) {
  std::string out;
  for (std::size_t i = 0; i < states.size(); ++i)
    out += (i == 0 ? "" : i + 1 == states.size() ? " or " : ", ") + subject + "=" + states[i];
  return out;
}

Error unknown_subject(const Goal& goal) {
  const std::string subject = general(base::ascii_lower(goal.subject));
  std::string all;
  std::vector<std::string> subjects;
  for (const GoalWord& word : goal_words()) {
    subjects.push_back(word.subject);
    all += (all.empty() ? "" : ", ") + word.subject + "=" + word.choices();
  }
  std::string nearest = nearest_word(subject, subjects);
  if (const std::string number = base::ascii_lower(goal.subject).substr(0, goal.subject.find('.'));
      (nearest.starts_with("pN") || nearest.starts_with("gN")) &&
      general(number) == nearest.substr(0, 2))
    nearest = number + nearest.substr(2);
  return {ErrorCode::words,
          fmt::format("unknown subject '{}'{}", printable(goal.subject),
                      nearest.empty() ? "" : "; did you mean " + nearest + "?"),
          {},
          "Goals are " + all};
}

// What an entry of a GPT can hold, to the last character.
void require_name(const std::string& name) {
  constexpr std::size_t max_units = 36;
  const std::u16string units = to_utf16(name);
  const auto wrong = [&name](const std::string& text) {
    return Error(ErrorCode::words,
                 fmt::format("'{}' can't be a partition's name: {}", printable(name), text), {},
                 "Give up to 36 characters (UTF-16 units), none of them a control character");
  };
  if (to_utf8(units) != name || !is_well_formed(units)) throw wrong("it is not well-formed UTF-8");
  if (units.size() > max_units)
    throw wrong(fmt::format("it has {} UTF-16 units, and {} fit", units.size(), max_units));
  if (std::any_of(units.begin(), units.end(),
                  [](char16_t c) { return c < 0x20 || (c >= 0x7F && c < 0xA0); }))
    throw wrong("it holds a control character");
}

// Up to 32 UTF-16 units, as NTFS has them; what FAT can spell is asked when the volume is known.
void require_label(const std::string& label) {
  constexpr std::size_t max_units = 32;
  const std::u16string units = to_utf16(label);
  const bool fine = to_utf8(units) == label && is_well_formed(units) && units.size() <= max_units &&
                    std::none_of(units.begin(), units.end(), [](char16_t c) { return c < 0x20; });
  if (fine) return;
  throw Error(ErrorCode::words, fmt::format("'{}' can't be a volume's label", printable(label)), {},
              "Give up to 32 characters (UTF-16 units), none of them a control character");
}

// "20GiB", "+20GiB", "-5GiB"
bool is_size(std::string_view state, bool with_sign) {
  if (with_sign && (state.starts_with('+') || state.starts_with('-'))) state.remove_prefix(1);
  const auto bytes = parse_bytes(state);
  return bytes && *bytes > 0;
}

bool is_state(const GoalWord& word, const std::string& state) {
  const auto listed = [&word](std::string_view s) {
    return std::find(word.states.begin(), word.states.end(), s) != word.states.end();
  };
  if (listed(state)) return true;
  switch (word.free) {
    case GoalWord::Free::nothing:
      return false;
    case GoalWord::Free::name:
      require_name(state);
      return true;
    case GoalWord::Free::label:
      require_label(state);
      return true;
    case GoalWord::Free::size:
      return is_size(state, true);
    case GoalWord::Free::more:
      return state.starts_with('+') && is_size(state.substr(1), false);
    case GoalWord::Free::bytes:
      return is_size(state, false);
    case GoalWord::Free::letter:
      return state.size() == 1 &&
             ((state[0] >= 'A' && state[0] <= 'Z') || (state[0] >= 'a' && state[0] <= 'z'));
    case GoalWord::Free::sized: {
      const std::size_t colon = std::min(state.find(':'), state.size());
      return colon < state.size() && listed(std::string_view(state).substr(0, colon)) &&
             is_size(std::string_view(state).substr(colon + 1), false);
    }
  }
  return false;
}

}  // namespace

const std::vector<GoalWord>& goal_words() {
  static const std::vector<std::string> cluster_sizes = {"512",  "1KiB",  "2KiB",  "4KiB",
                                                         "8KiB", "16KiB", "32KiB", "64KiB"};
  static const std::vector<GoalWord> words = {
      {"table", {"gpt", "mbr"}, "the kind of partition table"},
      {"pN",
       {"primary", "logical", "ntfs", "fat32", "fat16", "gone"},
       "its role in an MBR, its file system, or deleted"},
      {"volume", {"ntfs", "fat32", "fat16"}, "the file system of a disk without a table"},
      {"pN.cluster", cluster_sizes, "the size of its clusters, on FAT"},
      {"volume.cluster", cluster_sizes, "the same of a disk without a table"},
      {"names", {"safe"}, "names that FAT can't spell: others in their place"},
      {"pN.size", {"max", "min"}, "with its volume: 120GiB, +20GiB, -5GiB", GoalWord::Free::size},
      {"volume.size", {"max", "min"}, "the same of a disk without a table", GoalWord::Free::size},
      {"pN.front", {"max"}, "how much earlier it and its volume begin", GoalWord::Free::more},
      {"pN.label", {}, "the label of its volume", GoalWord::Free::label},
      {"volume.label", {}, "the same of a disk without a table", GoalWord::Free::label},
      {"gN",
       {"ntfs", "fat32", "fat16", "raw"},
       "a new partition in a gap, such as ntfs:20GiB",
       GoalWord::Free::sized},
      {"pN.active", {"yes", "no"}, "whether legacy firmware starts from it"},
      {"pN.name", {}, "its name in a GPT", GoalWord::Free::name},
      {"pN.type", {"match"}, "the type that goes with its file system"},
      {"boot", {"uefi", "legacy"}, "which firmware starts the system on it"},
      {"esp", {}, "how long a new EFI system partition is", GoalWord::Free::bytes},
      {"pN.letter", {}, "its drive letter in systems on the disk", GoalWord::Free::letter},
  };
  return words;
}

std::string GoalWord::choices() const {
  std::string out;
  const auto add = [&out](std::string_view one) { (out += out.empty() ? "" : "|") += one; };
  if (free == Free::name || free == Free::label) add("TEXT");
  if (free == Free::size) add("SIZE|+SIZE|-SIZE");
  if (free == Free::more) add("+SIZE");
  if (free == Free::bytes) add("SIZE");
  if (free == Free::letter) add("A to Z");
  for (const std::string& state : states) add(state);
  return out + (free == Free::sized ? "[:SIZE]" : "");
}

Goal parse_goal(std::string_view word) {
  const std::size_t equals = word.find('=');
  if (equals == word.npos || equals == 0) {
    throw Error(ErrorCode::words, fmt::format("'{}' is not a goal", printable(word)), {},
                "A goal is the state that is wanted, such as table=gpt or p3=logical");
  }
  Goal goal{std::string(word.substr(0, equals)), std::string(word.substr(equals + 1))};
  const auto& words = goal_words();
  const auto it = std::find_if(words.begin(), words.end(), [&goal](const GoalWord& w) {
    return w.subject == general(goal.subject);
  });
  if (it == words.end()) throw unknown_subject(goal);
  if (!is_state(*it, goal.state)) {
    const bool sizes = it->free == GoalWord::Free::size || it->free == GoalWord::Free::more ||
                       it->free == GoalWord::Free::bytes || it->free == GoalWord::Free::sized;
    throw Error(ErrorCode::words,
                fmt::format("'{}' is not a state of {}", printable(goal.state), goal.subject), {},
                it->free == GoalWord::Free::letter ? fmt::format("Say {}=P", goal.subject)
                : sizes ? fmt::format("Say {}={}, with sizes such as 500MiB or 20GiB", goal.subject,
                                      it->choices())
                        : "Say " + listed(goal.subject, it->states));
  }
  return goal;
}

}  // namespace nuvrat

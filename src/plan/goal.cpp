#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>
#include <nuvrat/text.h>

namespace nuvrat {
namespace {

bool is_partition(std::string_view word) {
  return word.size() > 1 && word.size() < 5 && word[0] == 'p' && word[1] != '0' &&
         word.find_first_not_of("0123456789", 1) == word.npos;
}

Error not_a_state(const Goal& goal, const char* possible) {
  return {ErrorCode::words,
          fmt::format("'{}' is not a state that '{}' can have", goal.state, goal.subject),
          {},
          possible};
}

// What an entry of a GPT can hold, to the last character.
void require_name(const std::string& name) {
  constexpr std::size_t most_units = 36;
  const std::u16string units = to_utf16(name);
  const auto wrong = [&name](const std::string& text) {
    return Error(ErrorCode::words,
                 fmt::format("'{}' can't be a partition's name: {}", printable(name), text), {},
                 "Give up to 36 characters (UTF-16 units), none of them a control character");
  };
  if (to_utf8(units) != name || !is_well_formed(units)) throw wrong("it is not well-formed UTF-8");
  if (units.size() > most_units)
    throw wrong(fmt::format("it has {} UTF-16 units, and {} fit", units.size(), most_units));
  if (std::any_of(units.begin(), units.end(),
                  [](char16_t c) { return c < 0x20 || (c >= 0x7F && c < 0xA0); }))
    throw wrong("it holds a control character");
}

}  // namespace

Goal parse_goal(std::string_view word) {
  const std::size_t equals = word.find('=');
  const bool empties = equals != word.npos && word.substr(0, equals).ends_with(".name");
  if (equals == word.npos || equals == 0 || (equals + 1 == word.size() && !empties)) {
    throw Error(ErrorCode::words, fmt::format("'{}' is not a goal", word), {},
                "A goal is the state that is wanted, such as table=gpt or p3=logical");
  }
  Goal goal{std::string(word.substr(0, equals)), std::string(word.substr(equals + 1))};
  if (goal.subject == "table") {
    if (goal.state == "gpt" || goal.state == "mbr") return goal;
    throw not_a_state(goal, "Say table=gpt or table=mbr");
  }
  if (goal.subject == "volume") {
    if (goal.state == "ntfs") return goal;
    throw not_a_state(goal, "Say volume=ntfs");
  }
  const std::string_view subject = goal.subject;
  const std::size_t dot = subject.find('.');
  const std::string_view field = dot == subject.npos ? "" : subject.substr(dot + 1);
  if (is_partition(subject.substr(0, dot))) {
    if (dot == subject.npos) {
      if (goal.state == "logical" || goal.state == "primary" || goal.state == "ntfs") return goal;
      throw not_a_state(goal, "Say p3=logical, p3=primary or p3=ntfs");
    }
    if (field == "active") {
      if (goal.state == "yes" || goal.state == "no") return goal;
      throw not_a_state(goal, "Say p1.active=yes or p1.active=no");
    }
    if (field == "name") {
      require_name(goal.state);
      return goal;
    }
    if (field == "type") {
      if (goal.state == "match") return goal;
      throw not_a_state(goal, "Say p1.type=match: the type that goes with what the volume is");
    }
  }
  throw Error(ErrorCode::words,
              fmt::format("'{}' is not something that a goal can be about", goal.subject), {},
              "Say table=gpt, table=mbr, p3=logical, p3=primary, p1=ntfs, p1.active=yes, "
              "p2.name=TEXT, p1.type=match, or volume=ntfs for a volume without a table");
}

}  // namespace nuvrat

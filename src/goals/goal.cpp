// What is asked of a goal, whatever its kind; and goals from words.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "goals/asked.h"
#include "goals/words.h"

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

// Of a general subject: 0 for the disk and its one volume.
unsigned number_in(std::string_view subject, std::string_view general_subject) {
  if (general_subject.size() < 2 || general_subject[1] != 'N') return 0;
  const std::size_t dot = std::min(subject.find('.'), subject.size());
  return static_cast<unsigned>(std::stoul(std::string(subject.substr(1, dot - 1))));
}

// "table=gpt or table=mbr"
std::string listed(const std::string& subject, const std::vector<std::string>& states) {
  std::string out;
  for (std::size_t i = 0; i < states.size(); ++i)
    out += (i == 0 ? "" : i + 1 == states.size() ? " or " : ", ") + subject + "=" + states[i];
  return out;
}

Error unknown_subject(const std::string& said) {
  const std::string subject = general(said);
  std::string all;
  std::vector<std::string> subjects;
  for (const GoalWord& word : goal_words()) {
    subjects.push_back(word.subject);
    all += (all.empty() ? "" : ", ") + word.subject + "=" + word.choices();
  }
  const std::string text = fmt::format("unknown subject '{}'", printable(said));
  std::string nearest = nearest_word(subject, subjects);
  if (nearest.empty()) return {ErrorCode::words, text, {}, "Goals are " + all};
  std::string choices;
  for (const GoalWord& word : goal_words()) {
    if (word.subject == nearest) choices = word.choices();
  }
  if (const std::string number = said.substr(0, said.find('.'));
      (nearest.starts_with("pN") || nearest.starts_with("gN")) &&
      general(number) == nearest.substr(0, 2))
    nearest = number + nearest.substr(2);
  return {ErrorCode::words,
          text + "; did you mean " + nearest + "?",
          {},
          fmt::format("Say {}={}", nearest, choices)};
}

// "+5", "20%": a number whose unit isn't one.
std::string size_trouble(const std::string& subject, const std::string& state) {
  const std::size_t digits = state.find_first_of("0123456789");
  const std::size_t end = state.find_first_not_of("0123456789.", std::min(digits, state.size()));
  if (digits > 1 || (digits == 1 && state[0] != '+' && state[0] != '-')) return "";
  if (end == state.npos) return fmt::format("{} what? Say {}={}GiB, or MiB", state, subject, state);
  if (state.substr(end) == "%")
    return fmt::format("{} of what? Say it as a size: {}={}20GiB", state, subject,
                       digits == 1 ? state.substr(0, 1) : "");
  return "";
}

Error unknown_state(const std::string& subject, const std::string& state, const GoalWord& word) {
  std::string remedy;
  switch (word.free) {
    case GoalWord::Free::nothing:
    case GoalWord::Free::text:
      remedy = "Say " + listed(subject, word.states);
      break;
    case GoalWord::Free::letter:
      remedy = fmt::format("Say {}=P", subject);
      break;
    case GoalWord::Free::size:
    case GoalWord::Free::more:
    case GoalWord::Free::bytes:
    case GoalWord::Free::sized:
      remedy = size_trouble(subject, state);
      if (remedy.empty())
        remedy =
            fmt::format("Say {}={}, with sizes such as 500MiB or 20GiB", subject, word.choices());
      break;
  }
  return {ErrorCode::words,
          fmt::format("'{}' is not a state of {}", printable(state), subject),
          {},
          remedy};
}

// "ntfs" alone: the state without what is to be in it.
Error not_a_goal(std::string_view said) {
  const std::string state = base::ascii_lower(std::string(said));
  const auto& words = goal_words();
  const auto word = std::find_if(words.begin(), words.end(), [&state](const GoalWord& w) {
    return std::find(w.states.begin(), w.states.end(), state) != w.states.end();
  });
  const std::string text = fmt::format("'{}' is not a goal", printable(said));
  if (word == words.end())
    return {ErrorCode::words,
            text,
            {},
            "A goal is the state that is wanted, such as table=gpt or p3=logical"};
  std::string subject = word->subject;
  const bool numbered = subject.size() > 1 && subject[1] == 'N';
  if (numbered) subject[1] = '1';
  return {ErrorCode::words,
          fmt::format("{}; did you mean {}={}?", text, subject, state),
          {},
          numbered ? "Say which partition, by its number in 'nuvrat survey'" : ""};
}

template <typename Kind>
void add_words(std::vector<GoalWord>& out) {
  for (const GoalWord& word : Kind::words()) {
    const auto same = std::find_if(out.begin(), out.end(), [&word](const GoalWord& other) {
      return other.subject == word.subject;
    });
    if (same == out.end()) {
      out.push_back(word);
      continue;
    }
    same->states.insert(same->states.end(), word.states.begin(), word.states.end());
    same->meaning += ", " + word.meaning;
  }
}

template <typename... Kinds>
std::vector<GoalWord> words_of(const std::variant<Kinds...>*) {
  std::vector<GoalWord> out;
  (add_words<Kinds>(out), ...);
  return out;
}

template <typename Kind>
void try_to_parse(std::string_view subject, std::string_view state, std::optional<Goal>& out) {
  const std::string wanted = general(subject);
  for (const GoalWord& word : Kind::words()) {
    if (out || word.subject != wanted) continue;
    if (auto kind = Kind::parse(number_in(subject, wanted), state)) out = Goal(std::move(*kind));
  }
}

template <typename... Kinds>
std::optional<Goal> parse_any(std::string_view subject, std::string_view state,
                              const std::variant<Kinds...>*) {
  std::optional<Goal> out;
  (try_to_parse<Kinds>(subject, state, out), ...);
  return out;
}

constexpr const Goal::Any* any_kind = nullptr;

}  // namespace

const std::vector<GoalWord>& goal_words() {
  static const std::vector<GoalWord> words = words_of(any_kind);
  return words;
}

std::string GoalWord::choices() const {
  std::string out;
  const auto add = [&out](std::string_view one) { (out += out.empty() ? "" : "|") += one; };
  if (free == Free::text) add("TEXT");
  if (free == Free::size) add("SIZE|+SIZE|-SIZE");
  if (free == Free::more) add("+SIZE");
  if (free == Free::bytes) add("SIZE");
  if (free == Free::letter) add("A to Z");
  for (const std::string& state : states) add(state);
  return out + (free == Free::sized ? "[:SIZE]" : "");
}

GoalStage Goal::stage() const {
  return std::visit([](const auto& kind) { return kind.stage; }, any_);
}

std::optional<unsigned> Goal::partition() const {
  return std::visit(
      [](const auto& kind) -> std::optional<unsigned> {
        if constexpr (requires { kind.partition; }) {
          return kind.partition;
        } else {
          return std::nullopt;
        }
      },
      any_);
}

std::string Goal::subject() const {
  return std::visit(
      [this](const auto& kind) {
        const std::vector<GoalWord>& words = kind.words();
        const unsigned number = goals::number_of(kind);
        // The second word is of a volume without a table.
        std::string out = words[partition() == 0u && words.size() > 1 ? 1 : 0].subject;
        if (out.size() > 1 && out[1] == 'N') out.replace(1, 1, std::to_string(number));
        return out;
      },
      any_);
}

std::string Goal::state() const {
  return std::visit([](const auto& kind) { return kind.state(); }, any_);
}

std::string Goal::sentence() const {
  return std::visit([](const auto& kind) { return kind.sentence(); }, any_);
}

std::string texts_of(const std::vector<Goal>& goals) {
  std::string out;
  for (const Goal& goal : goals) out += (out.empty() ? "" : " ") + goal.text();
  return out;
}

Goal parse_goal(std::string_view said) {
  const std::size_t equals = said.find('=');
  if (equals == said.npos || equals == 0) throw not_a_goal(said);
  const std::string subject = base::ascii_lower(std::string(said.substr(0, equals)));
  const std::string state(said.substr(equals + 1));
  const auto& words = goal_words();
  const auto word = std::find_if(words.begin(), words.end(), [&subject](const GoalWord& w) {
    return w.subject == general(subject);
  });
  if (word == words.end()) throw unknown_subject(subject);
  if (auto goal = parse_any(subject, state, any_kind)) return *goal;
  if (auto goal = parse_any(subject, base::ascii_lower(state), any_kind)) return *goal;
  throw unknown_state(subject, state, *word);
}

Goal parse_goal_for(std::string_view said, const Layout& layout) {
  const std::size_t equals = std::min(said.find('='), said.size());
  const std::string subject = base::ascii_lower(std::string(said.substr(0, equals)));
  const std::string wanted = general(subject);
  const bool share = said.ends_with('%') && wanted.starts_with("pN.");
  const Partition* p = share ? layout.find(number_in(subject, wanted)) : nullptr;
  const std::string state(said.substr(std::min(equals + 1, said.size())));
  const std::size_t digits = state.find_first_of("0123456789");
  if (p == nullptr || digits > 1 || state.size() > 5) return parse_goal(said);
  const std::string sign = state.substr(0, digits);
  std::uint64_t percent = 0;
  for (const char c : state.substr(digits, state.size() - digits - 1)) {
    if (c < '0' || c > '9') return parse_goal(said);
    percent = percent * 10 + static_cast<std::uint64_t>(c - '0');
  }
  constexpr std::uint64_t mib = 1u << 20;
  const std::uint64_t all = p->sectors * layout.sector_size / mib;
  const std::uint64_t size =
      std::max<std::uint64_t>(all / 100 * percent + all % 100 * percent / 100, 1);
  throw Error(ErrorCode::words,
              fmt::format("'{}' is a share, and a size is wanted", printable(state)), {},
              fmt::format("{} of p{} ({}) is {}: say {}={}{}", state.substr(digits), p->number,
                          format_bytes(p->sectors * layout.sector_size), format_bytes(size * mib),
                          subject, sign, goals::size_word(size * mib)));
}

}  // namespace nuvrat

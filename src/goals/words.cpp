#include "goals/words.h"

#include <algorithm>
#include <array>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

namespace nuvrat::goals {

bool lists(const GoalWord& word, std::string_view state) {
  return std::find(word.states.begin(), word.states.end(), state) != word.states.end();
}

std::optional<std::uint64_t> parse_size(std::string_view state) {
  // Bytes that are meant are said so: who writes a bare number means another unit.
  if (state.empty() || (state.back() >= '0' && state.back() <= '9')) return std::nullopt;
  const auto bytes = parse_bytes(state);
  return bytes && *bytes > 0 ? bytes : std::nullopt;
}

std::string size_word(std::uint64_t bytes) {
  struct Unit {
    const char* name;
    std::uint64_t bytes;
  };
  static constexpr std::array<Unit, 13> units{{{"EiB", std::uint64_t{1} << 60},
                                               {"PiB", std::uint64_t{1} << 50},
                                               {"TiB", std::uint64_t{1} << 40},
                                               {"GiB", std::uint64_t{1} << 30},
                                               {"MiB", std::uint64_t{1} << 20},
                                               {"KiB", std::uint64_t{1} << 10},
                                               {"EB", 1'000'000'000'000'000'000},
                                               {"PB", 1'000'000'000'000'000},
                                               {"TB", 1'000'000'000'000},
                                               {"GB", 1'000'000'000},
                                               {"MB", 1'000'000},
                                               {"kB", 1'000},
                                               {"B", 1}}};
  std::string best;
  for (const Unit& unit : units) {
    const std::uint64_t rest = bytes % unit.bytes;  // below 2^60: ten times that has 64 bits
    const std::uint64_t tenth = rest * 10 / unit.bytes;
    if (bytes < unit.bytes || rest * 10 % unit.bytes != 0) continue;
    std::string word = fmt::format("{}{}{}", bytes / unit.bytes,
                                   tenth == 0 ? "" : fmt::format(".{}", tenth), unit.name);
    if (best.empty() || word.size() < best.size()) best = std::move(word);
  }
  return best;
}

std::string in_capitals(std::string text) {
  for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
  return text;
}

std::string part_of(unsigned partition) {
  return partition == 0 ? "volume" : fmt::format("p{}", partition);
}

std::string volume_on(unsigned partition) {
  return partition == 0 ? "the volume" : fmt::format("the volume on p{}", partition);
}

void makes_no_sense(const std::string& text, const std::string& remedy) {
  throw Error(ErrorCode::words, text, {}, remedy);
}

}  // namespace nuvrat::goals

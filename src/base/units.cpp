#include <algorithm>
#include <array>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "base/ascii.h"

namespace nuvrat {

std::string format_bytes(std::uint64_t bytes) {
  if (bytes < 1024) return plural(bytes, "byte", "bytes");
  constexpr std::array units = {"KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
  double value = static_cast<double>(bytes) / 1024;
  std::size_t unit = 0;
  while (value >= 1024 && unit + 1 < units.size()) {
    value /= 1024;
    ++unit;
  }
  if (value >= 99.95) return fmt::format("{:.0f} {}", value, units[unit]);
  return fmt::format("{:.1f} {}", value, units[unit]);
}

std::optional<std::uint64_t> parse_bytes(std::string_view text) {
  constexpr std::string_view digits = "0123456789";
  constexpr std::uint64_t most = std::uint64_t{1} << 63;
  const std::size_t whole = std::min(text.find_first_not_of(digits), text.size());
  if (whole == 0 || whole > 18) return std::nullopt;
  std::string_view unit = text.substr(whole);
  std::string_view part;
  if (unit.starts_with('.')) {
    const std::size_t length = std::min(unit.find_first_not_of(digits, 1), unit.size()) - 1;
    if (length == 0 || length > 6) return std::nullopt;
    part = unit.substr(1, length);
    unit.remove_prefix(length + 1);
  }
  std::uint64_t factor = 1;
  if (const std::string name = base::ascii_lower(std::string(unit)); !name.empty() && name != "b") {
    constexpr std::string_view letters = "kmgtpe";
    const std::size_t letter = letters.find(name[0]);
    const std::string_view rest = std::string_view(name).substr(1);
    const bool binary = rest == "ib" || rest == "i" || rest.empty();  // "10M" is said of 10 MiB
    if (letter == letters.npos || (!binary && rest != "b")) return std::nullopt;
    for (std::size_t i = 0; i <= letter; ++i) factor *= binary ? 1024 : 1000;
  }
  __extension__ using Wide = unsigned __int128;
  Wide scale = 1;
  for (std::size_t i = 0; i < part.size(); ++i) scale *= 10;
  const auto number = [](std::string_view t) {
    std::uint64_t out = 0;
    for (const char c : t) out = out * 10 + static_cast<std::uint64_t>(c - '0');
    return out;
  };
  const Wide value = (Wide{number(text.substr(0, whole))} * scale + number(part)) * factor;
  if (value % scale != 0 || value / scale >= most) return std::nullopt;
  return static_cast<std::uint64_t>(value / scale);
}

std::string format_count(std::uint64_t count) {
  std::string digits = std::to_string(count);
  for (std::size_t at = digits.size(); at > 3;) {
    at -= 3;
    digits.insert(at, ",");
  }
  return digits;
}

std::string plural(std::uint64_t count, std::string_view one, std::string_view many) {
  return fmt::format("{} {}", format_count(count), count == 1 ? one : many);
}

namespace {

// Letters to change, add or leave out to get from one to the other.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
  for (std::size_t i = 0; i < a.size(); ++i) {
    std::size_t diagonal = row[0]++;
    for (std::size_t j = 0; j < b.size(); ++j) {
      const std::size_t changed = diagonal + (a[i] == b[j] ? 0 : 1);
      diagonal = row[j + 1];
      row[j + 1] = std::min({changed, row[j] + 1, row[j + 1] + 1});
    }
  }
  return row[b.size()];
}

}  // namespace

std::string nearest_word(std::string_view word, const std::vector<std::string>& words) {
  std::size_t best = 3;  // further away it is another word
  std::string out;
  for (const std::string& each : words) {
    if (const std::size_t d = distance(word, each); d < best) {
      best = d;
      out = each;
    }
  }
  return out;
}

}  // namespace nuvrat

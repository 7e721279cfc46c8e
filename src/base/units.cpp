#include <array>

#include <fmt/format.h>

#include <nuvrat/text.h>

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

}  // namespace nuvrat

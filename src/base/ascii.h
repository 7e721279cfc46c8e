#pragma once
// Names by their ASCII letters, as firmware and registries compare them; and paths in parts.

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

namespace nuvrat::base {

/// The same text with A to Z as a to z; whatever lies beyond ASCII stays.
template <typename Text>
[[nodiscard]] Text ascii_lower(Text text) {
  using Unit = typename Text::value_type;
  for (Unit& c : text) c = c >= 'A' && c <= 'Z' ? static_cast<Unit>(c + ('a' - 'A')) : c;
  return text;
}

/// "Boot/BCD" as "Boot" and "BCD". Empty parts stay; an empty path has none.
[[nodiscard]] inline std::vector<std::string> path_parts(std::string_view path) {
  std::vector<std::string> out;
  for (std::size_t at = 0; !path.empty() && at <= path.size();) {
    const std::size_t end = std::min(path.find('/', at), path.size());
    out.emplace_back(path.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

}  // namespace nuvrat::base

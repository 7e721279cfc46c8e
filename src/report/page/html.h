#pragma once
// HTML as text: everything that comes from a disk goes through esc().

#include <string>
#include <string_view>
#include <vector>

namespace nuvrat::report {

/// Fit for HTML's text and for attributes in double quotes; control characters become U+FFFD.
[[nodiscard]] std::string esc(std::string_view text);
/// The same with a capital letter in front.
[[nodiscard]] std::string sentence(std::string_view text);
/// A figure that can be compared with the case: what is shown, and the plain value beside it.
[[nodiscard]] std::string claim(std::string_view name, std::string_view shown,
                                std::string_view value);
[[nodiscard]] std::string claim(std::string_view name, std::uint64_t count);
/// A part of the page with its heading; `id` names it for links.
[[nodiscard]] std::string section(std::string_view id, std::string_view title,
                                  const std::string& body);

/// A table; cells are HTML. Wide ones scroll by themselves instead of widening the page.
struct HtmlTable {
  std::string caption;
  std::vector<std::string> heads;
  std::vector<std::vector<std::string>> rows;
  std::vector<bool> numeric;  ///< by column; missing: text
  [[nodiscard]] std::string text() const;
};

}  // namespace nuvrat::report

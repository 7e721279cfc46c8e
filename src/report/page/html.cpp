#include "report/page/html.h"

#include <fmt/core.h>

#include <nuvrat/text.h>

namespace nuvrat::report {

std::string esc(std::string_view text) {
  std::string out;
  for (const char c : printable(text)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string sentence(std::string_view text) {
  std::string out(text);
  if (!out.empty() && out[0] >= 'a' && out[0] <= 'z')
    out[0] = static_cast<char>(out[0] - 'a' + 'A');
  return esc(out);
}

std::string claim(std::string_view name, std::string_view shown, std::string_view value) {
  return fmt::format("<span class=\"claim\" data-claim=\"{}\" data-value=\"{}\">{}</span>", name,
                     esc(value), esc(shown));
}

std::string claim(std::string_view name, std::uint64_t count) {
  return claim(name, format_count(count), std::to_string(count));
}

std::string section(std::string_view id, std::string_view title, const std::string& body) {
  return fmt::format(
      "<section id=\"{0}\" aria-labelledby=\"h-{0}\">\n<h2 id=\"h-{0}\">{1}</h2>\n{2}</section>\n",
      id, esc(title), body);
}

std::string HtmlTable::text() const {
  const auto align = [this](std::size_t column) {
    return column < numeric.size() && numeric[column] ? " class=\"n\"" : "";
  };
  std::string out = fmt::format(
      "<div class=\"wide\" tabindex=\"0\" role=\"region\" aria-label=\"{0}\">"
      "<table><caption>{0}</caption>\n<thead><tr>",
      esc(caption));
  for (std::size_t i = 0; i < heads.size(); ++i)
    out += fmt::format("<th scope=\"col\"{}>{}</th>", align(i), esc(heads[i]));
  out += "</tr></thead>\n<tbody>\n";
  for (const auto& row : rows) {
    out += "<tr>";
    for (std::size_t i = 0; i < row.size(); ++i) {
      out += i == 0 ? fmt::format("<th scope=\"row\"{}>{}</th>", align(i), row[i])
                    : fmt::format("<td{}>{}</td>", align(i), row[i]);
    }
    out += "</tr>\n";
  }
  return out + "</tbody></table></div>\n";
}

}  // namespace nuvrat::report

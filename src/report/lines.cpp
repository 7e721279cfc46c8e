#include "report/lines.h"

#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/text.h>

#include "report/map.h"
#include "report/wrap.h"

namespace nuvrat {

std::string coloured_verdict(const std::string& text, int colour, const TextStyle& style) {
  return wrap(text, style.width, "", "",
              [&](const std::string& s) { return paint(s, colour, style); });
}

std::string verdict(const std::string& text, bool fine, const TextStyle& style) {
  return coloured_verdict(text, fine ? good : bad, style);
}

int colour_of(const Findings& findings) {
  const bool any = std::any_of(findings.begin(), findings.end(),
                               [](const Finding& f) { return f.severity == Severity::warning; });
  return has_errors(findings) ? bad : any ? warn : good;
}

std::string finding_lines(const Findings& findings, const TextStyle& style) {
  std::string out;
  for (const Finding& f : findings) {
    const int colour = f.severity == Severity::error     ? bad
                       : f.severity == Severity::warning ? warn
                                                         : 0;
    const std::string where = f.place.text();
    out += wrap(fmt::format("{} {}: {}{}", name_of(f.severity), f.code, printable(f.text),
                            where.empty() ? "" : " (" + printable(where) + ")"),
                style.width, "  ", "    ",
                [&](const std::string& s) { return paint(s, colour, style); });
  }
  return out;
}

std::string difference_lines(const Comparison& c, const TextStyle& style) {
  std::string out;
  constexpr std::size_t most_shown = 20;
  for (std::size_t i = 0; i < std::min(c.differences.size(), most_shown); ++i) {
    const Difference& d = c.differences[i];
    const std::string where =
        fmt::format("{}{}{}", part_name(d.number), d.path.empty() ? "" : "/", printable(d.path));
    out += wrap(fmt::format("{}: {}: {}", name_of(d.kind), where, d.text), style.width, "  ",
                "    ", [&](const std::string& s) { return paint(s, bad, style); });
  }
  if (c.count > most_shown)
    out += fmt::format("  … and {} more\n", format_count(c.count - most_shown));
  return out;
}

}  // namespace nuvrat

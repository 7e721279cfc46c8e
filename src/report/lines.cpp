#include "report/lines.h"

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/text.h>

namespace nuvrat::report {

std::string verdict(const std::string& subject, Tone tone, const std::string& key,
                    const std::string& rest, const TextStyle& style) {
  return wrap(printable(subject) + (subject.empty() ? "" : ": ") + toned(tone, key) + rest, style,
              "", "");
}

std::string unseen_lines(const std::vector<std::string>& unseen, const TextStyle& style) {
  std::string all;
  for (const std::string& one : unseen) all += (all.empty() ? "" : "; ") + printable(one);
  return all.empty() ? "" : wrap("not looked at: " + all, style, "  ", "    ");
}

Tone tone_of(const Findings& findings) {
  const bool any = std::any_of(findings.begin(), findings.end(),
                               [](const Finding& f) { return f.severity == Severity::warning; });
  return has_errors(findings) ? Tone::bad : any ? Tone::caution : Tone::good;
}

std::string finding_lines(const Findings& findings, const TextStyle& style) {
  std::string out;
  for (const Finding& f : findings) {
    const Tone tone = f.severity == Severity::error     ? Tone::bad
                      : f.severity == Severity::warning ? Tone::caution
                                                        : Tone::quiet;
    const std::string where = f.place.text();
    out += wrap(toned(tone, name_of(f.severity)) +
                    fmt::format(" {}: {}{}", name_of(f.code), printable(f.text),
                                where.empty() ? "" : " (" + printable(where) + ")"),
                style, "  ", "    ");
  }
  return out;
}

Findings new_findings(const Findings& before, const Findings& after) {
  std::multiset<std::pair<Rule, std::string>> known;
  for (const Finding& f : before) known.emplace(f.code, f.text);
  Findings out;
  for (const Finding& f : after) {
    const auto same = known.find({f.code, f.text});
    if (same == known.end())
      out.push_back(f);
    else
      known.erase(same);
  }
  return out;
}

std::string severity_counts(const Findings& findings) {
  std::string out;
  const auto say = [&](Severity severity, const char* one, const char* many) {
    const auto count =
        std::count_if(findings.begin(), findings.end(),
                      [severity](const Finding& f) { return f.severity == severity; });
    if (count > 0)
      out += (out.empty() ? "" : ", ") + plural(static_cast<std::uint64_t>(count), one, many);
  };
  say(Severity::error, "error", "errors");
  say(Severity::warning, "warning", "warnings");
  say(Severity::note, "note", "notes");
  return out;
}

std::string difference_counts(const Comparison& c) {
  std::string out;
  for (const auto& [kind, count] : c.by_kind) {
    out += out.empty() ? "" : ", ";
    if (kind == DifferenceKind::missing || kind == DifferenceKind::extra)
      out += format_count(count) + " " + name_of(kind);
    else if (kind == DifferenceKind::volume)
      out += plural(count, "volume", "volumes");
    else if (kind == DifferenceKind::range)
      out += plural(count, "partition", "partitions");
    else if (kind == DifferenceKind::place)
      out += format_count(count) + " elsewhere";
    else
      out += format_count(count) + " in " + name_of(kind);
  }
  return out;
}

std::string difference_lines(const Comparison& c, const TextStyle& style) {
  std::string out;
  constexpr std::size_t max_shown = 20;
  for (std::size_t i = 0; i < std::min(c.differences.size(), max_shown); ++i) {
    const Difference& d = c.differences[i];
    std::string where = part_name(d.number) + (d.path.empty() ? "" : "/" + printable(d.path));
    if (d.number == 0 && d.path.empty()) where.clear();  // there is but one
    out += wrap(toned(Tone::bad, name_of(d.kind)) +
                    fmt::format(": {}{}{}", where, where.empty() ? "" : ": ", d.text),
                style, "  ", "    ");
  }
  if (c.count > max_shown)
    out += fmt::format("  … and {} more\n", format_count(c.count - max_shown));
  return out;
}

}  // namespace nuvrat::report

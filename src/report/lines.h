#pragma once
// What the terminal's views are made of.

#include <string>

#include <nuvrat/report.h>

#include "report/style.h"

namespace nuvrat::report {

/// The first line of every view: what it is about, the key words, and the rest.
[[nodiscard]] std::string verdict(const std::string& subject, Tone tone, const std::string& key,
                                  const std::string& rest, const TextStyle& style);
/// "not looked at: …"; empty of none.
[[nodiscard]] std::string unseen_lines(const std::vector<std::string>& unseen,
                                       const TextStyle& style);
/// The verdict on a disk without its name: the key words, and the rest.
struct Lead {
  std::string key, rest;
};
/// Of the gravest finding.
[[nodiscard]] Tone tone_of(const Findings& findings);
[[nodiscard]] std::string finding_lines(const Findings& findings, const TextStyle& style);
/// Those of `after` that did not stand `before`, by code and sentence.
[[nodiscard]] Findings new_findings(const Findings& before, const Findings& after);
/// "3 warnings", "1 error, 2 notes"; empty of none.
[[nodiscard]] std::string severity_counts(const Findings& findings);
/// "12 missing, 3 in content".
[[nodiscard]] std::string difference_counts(const Comparison& comparison);
[[nodiscard]] std::string difference_lines(const Comparison& comparison, const TextStyle& style);

}  // namespace nuvrat::report

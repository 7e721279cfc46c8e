#pragma once
// What the terminal's views are made of.

#include <string>

#include <nuvrat/report.h>

namespace nuvrat {

inline constexpr int good = 92;
inline constexpr int bad = 91;
inline constexpr int warn = 93;

/// The first line of every view.
[[nodiscard]] std::string verdict(const std::string& text, bool fine, const TextStyle& style);
[[nodiscard]] std::string coloured_verdict(const std::string& text, int colour,
                                           const TextStyle& style);
/// Of the gravest finding.
[[nodiscard]] int colour_of(const Findings& findings);
[[nodiscard]] std::string finding_lines(const Findings& findings, const TextStyle& style);
[[nodiscard]] std::string difference_lines(const Comparison& comparison, const TextStyle& style);

}  // namespace nuvrat

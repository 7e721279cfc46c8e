#pragma once
// Findings of a look at a structure: one for each rule that is broken or worth a word.

#include <string>
#include <vector>

#include <nuvrat/codes.h>
#include <nuvrat/error.h>

namespace NUVRAT_API nuvrat {

struct Finding {
  Rule code;
  Severity severity = Severity::note;
  Place place;
  std::string text;         ///< one sentence with the values
  bool repairable = false;  ///< `check --repair` can mend it with nothing lost
};

using Findings = std::vector<Finding>;

/// True when any finding is an error.
[[nodiscard]] bool has_errors(const Findings& findings);
/// The first finding with this code, or null.
[[nodiscard]] const Finding* find_code(const Findings& findings, Rule code);

}  // namespace nuvrat

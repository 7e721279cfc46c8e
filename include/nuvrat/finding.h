#pragma once
// What a look at a structure found: one Finding a rule that is broken or worth a word.

#include <string>
#include <vector>

#include <nuvrat/error.h>

namespace nuvrat {

enum class Severity {
  note,     ///< unusual but legal
  warning,  ///< against the rules, yet nothing reads wrong because of it
  error,    ///< the structure can't be trusted; a rewrite is refused
};

struct Finding {
  std::string code;  ///< stable name of the rule, such as "mbr.overlap" or "gpt.backup-missing"
  Severity severity = Severity::note;
  Place place;
  std::string text;         ///< one sentence with the values
  bool repairable = false;  ///< `check --repair` can mend it with nothing lost
};

using Findings = std::vector<Finding>;

[[nodiscard]] const char* name_of(Severity severity);
/// True when any finding is an error.
[[nodiscard]] bool has_errors(const Findings& findings);
/// The first finding with this code, or null.
[[nodiscard]] const Finding* find_code(const Findings& findings, std::string_view code);

}  // namespace nuvrat

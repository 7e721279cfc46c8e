#pragma once

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// How grave a finding is.
enum class Severity {
  note,     ///< unusual but legal
  warning,  ///< against the rules, yet nothing reads wrong because of it
  error,    ///< the structure can't be trusted; a rewrite is refused
};
[[nodiscard]] const char* name_of(Severity severity);

}  // namespace nuvrat

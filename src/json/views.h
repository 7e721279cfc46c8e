#pragma once
// Objects that --json shows. Those that need nothing but a model are the public functions
// themselves; these are told what other rooms know.

#include <nuvrat/report.h>

#include "json/library.h"

namespace nuvrat::json {

[[nodiscard]] Json findings_json(const Findings& findings);
[[nodiscard]] Json differences_json(const std::vector<Difference>& differences);

}  // namespace nuvrat::json

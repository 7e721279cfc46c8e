#pragma once
// Pieces of the JSON views.

#include <string>

#include <nuvrat/report.h>

#include "assess/json.h"

namespace nuvrat {

[[nodiscard]] std::string dump(const nlohmann::json& json);
[[nodiscard]] nlohmann::json findings_json(const Findings& findings);
[[nodiscard]] nlohmann::json differences_json(const std::vector<Difference>& differences);

}  // namespace nuvrat

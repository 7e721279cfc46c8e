#pragma once
// The neutral models as JSON: what --json shows and what a case keeps. Form: docs/formats/case.md.

#include <nlohmann/json.hpp>

#include <nuvrat/assessment.h>

namespace nuvrat {

[[nodiscard]] nlohmann::json to_json(const DeviceIdentity& device);
[[nodiscard]] nlohmann::json to_json(const Partition& partition);
[[nodiscard]] nlohmann::json to_json(const Layout& layout);
[[nodiscard]] nlohmann::json to_json(const Place& place);
[[nodiscard]] nlohmann::json to_json(const Finding& finding);
[[nodiscard]] nlohmann::json to_json(const SectorRange& range);
[[nodiscard]] nlohmann::json to_json(const Step& step);
[[nodiscard]] nlohmann::json to_json(const Assessment& assessment);

/// The ways back throw Error (file) when something is missing or of the wrong kind.
[[nodiscard]] Layout layout_from_json(const nlohmann::json& json);
[[nodiscard]] Step step_from_json(const nlohmann::json& json);
[[nodiscard]] Findings findings_from_json(const nlohmann::json& json);
[[nodiscard]] Assessment assessment_from_json(const nlohmann::json& json);

}  // namespace nuvrat

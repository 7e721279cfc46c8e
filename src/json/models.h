#pragma once
// The neutral models as JSON: what --json shows and what a case keeps. Only this room
// knows the library. Form: docs/formats/case.md.

#include <nuvrat/assessment.h>

#include "json/blobs.h"
#include "json/library.h"

namespace nuvrat::json {

[[nodiscard]] Json to_json(const DeviceIdentity& device);
[[nodiscard]] Json to_json(const Partition& partition);
[[nodiscard]] Json to_json(const Layout& layout);
[[nodiscard]] Json to_json(const Place& place);
[[nodiscard]] Json to_json(const Finding& finding);
[[nodiscard]] Json to_json(const Obstacle& obstacle);

[[nodiscard]] Json to_json(const Contents& contents);
[[nodiscard]] Json to_json(const ExpectedChange& change);
[[nodiscard]] Json to_json(const Renumbering& renumbering);
[[nodiscard]] Json to_json(const SectorRange& range);
/// With blobs, as a case keeps it: bytes go there. Without, to be shown: bytes by their hash.
[[nodiscard]] Json to_json(const Step& step, Blobs* blobs = nullptr);
[[nodiscard]] Json to_json(const Assessment& assessment, Blobs* blobs = nullptr);

/// The ways back throw Error (file) when something is missing or of the wrong kind.
[[nodiscard]] Layout layout_from_json(const Json& j);
[[nodiscard]] Step step_from_json(const Json& j, ByteView blobs);
[[nodiscard]] Findings findings_from_json(const Json& j);
[[nodiscard]] Assessment assessment_from_json(const Json& j, ByteView blobs);

}  // namespace nuvrat::json

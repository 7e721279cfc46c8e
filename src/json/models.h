#pragma once
// The neutral models as JSON: what --json shows and what a case keeps. Only this room
// knows the library. Form: docs/formats/case.md.

#include <nuvrat/assessment.h>

#include "json/blobs.h"
#include "json/library.h"

namespace nuvrat {

[[nodiscard]] json to_json(const DeviceIdentity& device);
[[nodiscard]] json to_json(const Partition& partition);
[[nodiscard]] json to_json(const Layout& layout);
[[nodiscard]] json to_json(const Place& place);
[[nodiscard]] json to_json(const Finding& finding);
[[nodiscard]] json to_json(const SectorRange& range);
/// With blobs, as a case keeps it: bytes go there. Without, to be shown: bytes by their hash.
[[nodiscard]] json to_json(const Step& step, Blobs* blobs = nullptr);
[[nodiscard]] json to_json(const Assessment& assessment, Blobs* blobs = nullptr);

/// The ways back throw Error (file) when something is missing or of the wrong kind.
[[nodiscard]] Layout layout_from_json(const json& j);
[[nodiscard]] Step step_from_json(const json& j, ByteView blobs);
[[nodiscard]] Findings findings_from_json(const json& j);
[[nodiscard]] Assessment assessment_from_json(const json& j, ByteView blobs);

}  // namespace nuvrat

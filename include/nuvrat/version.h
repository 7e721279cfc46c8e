#pragma once
// Which Nuvrat this is.

namespace nuvrat {

/// "0.1.0": that of the library that is linked.
[[nodiscard]] const char* version();

}  // namespace nuvrat

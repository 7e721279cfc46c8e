#pragma once
// The version of Nuvrat: of these headers, and of the library.

#if !defined(__cplusplus) || __cplusplus < 202002L
#error "Nuvrat is a library for C++20: compile with -std=c++20 or later"
#endif

/// Of these headers. Nothing is promised between minor versions before 1.0: build against the one
/// that you ship.
#define NUVRAT_VERSION_MAJOR 0
#define NUVRAT_VERSION_MINOR 1
#define NUVRAT_VERSION_PATCH 0

/// Of a shared library, only what these headers declare can be linked to.
#define NUVRAT_API [[gnu::visibility("default")]]

namespace NUVRAT_API nuvrat {

/// "0.1.0": that of the library that is linked.
[[nodiscard]] const char* version();

}  // namespace nuvrat

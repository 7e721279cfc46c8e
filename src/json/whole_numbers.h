#pragma once
// JSON from files that anybody may have changed.

#include <vector>

#include <nuvrat/error.h>

#include "json/library.h"

namespace nuvrat {

/// Throws Error (file) for a number with a fraction, but under the key `except`: none of our
/// counts has one, and one beyond 64 bits would convert to anything at all.
inline void require_whole_numbers(const json& j, const char* except = nullptr) {
  std::vector<const json*> open{&j};  // no recursion that the file controls
  while (!open.empty()) {
    const json& here = *open.back();
    open.pop_back();
    for (const auto& item : here.items()) {
      const json& value = item.value();
      if (value.is_structured()) {
        open.push_back(&value);
      } else if (value.is_number_float() && (except == nullptr || item.key() != except)) {
        throw Error(ErrorCode::file, "'" + item.key() + "' is not a whole number of 64 bits");
      }
    }
  }
}

}  // namespace nuvrat

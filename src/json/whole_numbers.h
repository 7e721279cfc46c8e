#pragma once
// JSON from files that anybody may have changed.

#include <algorithm>
#include <cstdint>
#include <string_view>
#include <vector>

#include <nuvrat/error.h>

#include "json/library.h"

namespace nuvrat::json {

/// Throws Error (file) for a number with a fraction, but under the keys `except`: none of our
/// counts has one, and one beyond 64 bits would convert to anything at all.
inline void require_whole_numbers(const Json& j, const std::vector<std::string_view>& except = {}) {
  std::vector<const Json*> open{&j};  // no recursion that the file controls
  while (!open.empty()) {
    const Json& here = *open.back();
    open.pop_back();
    for (const auto& item : here.items()) {
      const Json& value = item.value();
      if (value.is_structured()) {
        open.push_back(&value);
      } else if (value.is_number_float() &&
                 std::find(except.begin(), except.end(), item.key()) == except.end()) {
        throw Error(ErrorCode::file, "'" + item.key() + "' is not a whole number of 64 bits");
      }
    }
  }
}

/// Throws Error (file) for what isn't a whole number of 32 bits: converted, "true" would be one.
[[nodiscard]] inline std::uint32_t whole_32_bits(const Json& j) {
  if (!j.is_number_unsigned() || j.get<std::uint64_t>() > 0xFFFFFFFF)
    throw Error(ErrorCode::file, "a number is not a whole one of 32 bits");
  return j.get<std::uint32_t>();
}

}  // namespace nuvrat::json

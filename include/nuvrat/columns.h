#pragma once
// Text in the columns of a terminal.

#include <cstddef>
#include <string>
#include <string_view>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// Columns a terminal needs for it (wide East Asian characters take two, combining marks none).
[[nodiscard]] std::size_t display_width(std::string_view utf8);
/// Cut to at most `columns`, with an ellipsis where something is missing; padded on request.
[[nodiscard]] std::string fit(std::string_view utf8, std::size_t columns, bool pad);

}  // namespace nuvrat

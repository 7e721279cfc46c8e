#pragma once
// Lines that break between words.

#include <functional>
#include <string>

namespace nuvrat {

using Painter = std::function<std::string(const std::string&)>;

/// `text` in lines of at most `width` columns, each ending with a line feed; the first begins with
/// `first`, the others with `rest`. Words that are wider than a line are left whole.
[[nodiscard]] std::string wrap(const std::string& text, std::size_t width, const std::string& first,
                               const std::string& rest, const Painter& painter = nullptr);

}  // namespace nuvrat

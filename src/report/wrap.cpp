#include "report/wrap.h"

#include <nuvrat/text.h>

namespace nuvrat {

std::string wrap(const std::string& text, std::size_t width, const std::string& first,
                 const std::string& rest, const Painter& painter) {
  std::string out;
  std::string line;
  bool begun = false;
  const auto emit = [&] {
    out += (out.empty() ? first : rest) + (painter ? painter(line) : line) + "\n";
    line.clear();
    begun = false;
  };
  for (std::size_t at = 0; at <= text.size();) {
    std::size_t end = text.find(' ', at);
    if (end == text.npos) end = text.size();
    const std::string word = text.substr(at, end - at);
    const std::size_t margin = display_width(out.empty() ? first : rest);
    if (begun && margin + display_width(line) + 1 + display_width(word) > width) emit();
    line += (begun ? " " : "") + word;
    begun = true;
    at = end + 1;
  }
  emit();
  return out;
}

}  // namespace nuvrat

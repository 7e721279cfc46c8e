#pragma once
// Text for a terminal: lines that break between words, and words with a tone. Nothing is said by a
// tone alone.

#include <string>
#include <string_view>

#include <nuvrat/report.h>

namespace nuvrat::report {

/// What a word is about. Each is as readable on a white ground as on a black one.
enum class Tone : char {
  plain = '-',
  good = 'g',
  caution = 'c',
  bad = 'b',
  quiet = 'q',
  fat = 'f',  ///< the kinds of contents, for maps
  ntfs = 'n',
  other = 'o',
};

/// The text with marks that wrap() and paint() turn into colour, or drop. Marks don't nest.
[[nodiscard]] std::string toned(Tone tone, std::string_view text);
/// One line, its marks turned into colour where the style has any.
[[nodiscard]] std::string paint(std::string_view text, const TextStyle& style);
/// `text` in lines of at most style.width columns, each ending with a line feed; the first begins
/// with `first`, the others with `rest`. Words that are wider than a line are left whole.
[[nodiscard]] std::string wrap(const std::string& text, const TextStyle& style,
                               const std::string& first, const std::string& rest);

}  // namespace nuvrat::report

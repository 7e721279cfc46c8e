// Lines for terminals of any width, in colour and without, in UTF-8 and in ASCII.

#include "report/style.h"

#include <sstream>

#include <doctest/doctest.h>

#include <nuvrat/columns.h>
#include <nuvrat/text.h>

using namespace nuvrat;
using namespace nuvrat::report;

namespace {

std::string without_colour(std::string text) {
  for (std::size_t at = text.find('\x1b'); at != text.npos; at = text.find('\x1b'))
    text.erase(at, text.find('m', at) + 1 - at);
  return text;
}

}  // namespace

TEST_CASE(
    "style: a colour ends where its line ends, begins again in the next, and is all there is") {
  const std::string text =
      "disk.img: " + toned(Tone::good, "nothing was lost of all that there was to lose") +
      ": 3 files";
  for (unsigned width = 12; width < 90; ++width) {
    CAPTURE(width);
    const std::string plain = wrap(text, {width, false}, "  ", "    ");
    const std::string coloured = wrap(text, {width, true}, "  ", "    ");
    CHECK(plain.find_first_of("\x0E\x0F\x1b") == plain.npos);
    CHECK(without_colour(coloured) == plain);
    std::istringstream lines(coloured);
    for (std::string line; std::getline(lines, line);) {
      const std::string bare = without_colour(line);
      // A word is never broken; a line of several words is never too wide.
      const bool several = bare.find(' ', bare.find_first_not_of(' ')) != bare.npos;
      if (several) CHECK(display_width(bare) <= width);
      if (bare != line) CHECK(line.rfind("\x1b[0m") > line.rfind("\x1b[38"));
    }
  }
}

TEST_CASE("style: a command is never broken, and its path is one argument") {
  CHECK(as_argument("cases/17") == "cases/17");
  CHECK(as_argument("a b's") == "\"a b's\"");
  CHECK(as_argument("a\"$") == "\"a\\\"\\$\"");
  CHECK(as_argument("") == "\"\"");
  TextStyle narrow;
  narrow.width = 40;
  const std::string text = "Run 'nuvrat resume " + as_argument("/cases/the tide's \"first\" disk") +
                           "' to finish it, or 'nuvrat revert 17' to go back";
  const std::string wrapped = wrap(text, narrow, "", "");
  CHECK(wrapped.find("'nuvrat resume \"/cases/the tide's \\\"first\\\" disk\"'\n") !=
        std::string::npos);
  CHECK(wrapped.find("'nuvrat revert 17'") != std::string::npos);
  // A quote that never ends is text.
  CHECK(wrap("of 'nuvrat and the rest of it, which is long", narrow, "", "").find('\n') < 41);
}

TEST_CASE("style: a size is never broken from its unit") {
  const std::string text = "g1 39.0 MiB from 1230848, g2 1.1 GiB, with 610 KiB of contents; 7 KiBs";
  for (unsigned width = 14; width < 80; ++width) {
    CAPTURE(width);
    std::istringstream lines(wrap(text, {width, false}, "  ", "  "));
    std::string joined;
    for (std::string line; std::getline(lines, line);) {
      for (const char* unit : {"  MiB", "  GiB", "  KiB "}) CHECK(line.find(unit) != 0);
      CHECK(display_width(line) <= width);
      joined += line.substr(joined.empty() ? 2 : 1);
    }
    CHECK(joined == text);
  }
}

TEST_CASE("style: ASCII has as many columns as what it stands for") {
  const std::string box = "┌p1─┬┄┄┐│…│═→×";
  const std::string plain = ascii_text(box);
  CHECK(plain == "+p1-+..+|~|=>x");
  CHECK(plain.size() == display_width(box));
  CHECK(ascii_text("gauge é 7") == "gauge ? 7");
}

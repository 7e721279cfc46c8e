// Names in UTF-16, UTF-8 and code pages.

#include <doctest/doctest.h>

#include <nuvrat/columns.h>
#include <nuvrat/error.h>
#include <nuvrat/random.h>
#include <nuvrat/text.h>

using namespace nuvrat;

TEST_CASE("text: any UTF-16, well-formed or not, comes back from UTF-8 and from digits") {
  Random random(3);
  for (int round = 0; round < 3000; ++round) {
    std::u16string text;
    for (std::uint64_t n = random.below(12); n > 0; --n) {
      const std::uint64_t kind = random.below(4);
      const std::uint64_t unit = kind == 0   ? 0x20 + random.below(0x60)
                                 : kind == 1 ? 0xD800 + random.below(0x800)
                                             : 1 + random.below(0xFFFF);
      text.push_back(static_cast<char16_t>(unit));
    }
    CHECK(to_utf16(to_utf8(text)) == text);
    CHECK(from_utf16_digits(utf16_digits(text)) == text);
    const std::string shown = printable(to_utf8(text));
    CHECK(printable(shown) == shown);
    for (std::size_t columns = 1; columns < 10; ++columns) {
      CHECK(display_width(fit(shown, columns, true)) == columns);
      CHECK(is_well_formed(cut(to_utf16(shown), columns)));
    }
  }
}

TEST_CASE("text: every byte of every code page survives the way to UTF-16 and back") {
  for (const unsigned number : {437u, 850u, 852u, 866u, 1252u}) {
    const CodePage page(number);
    for (unsigned byte = 1; byte < 256; ++byte) {
      CAPTURE(byte);
      const Bytes bytes{static_cast<std::uint8_t>(byte)};
      CHECK(page.encode(page.decode(bytes)) == bytes);
    }
  }
  const CodePage japanese(932);
  const Bytes two{0x93, 0xFA, 0x96, 0x7B};
  CHECK(japanese.decode(two) == u"日本");
  CHECK(japanese.encode(u"日本") == two);
  CHECK(CodePage(437).encode(u"日本").empty());
  CHECK(CodePage(437).decode(Bytes{0x82}) == u"é");
  CHECK_THROWS_AS(CodePage(12345), Error);
}

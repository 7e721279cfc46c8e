#include <cctype>

#include <nuvrat/columns.h>

#include "support.h"

using namespace nuvrat;
using support::code_of;

TEST_CASE("base: checksums give the published values") {
  const std::string digits = "123456789";
  const ByteView view(reinterpret_cast<const std::uint8_t*>(digits.data()), digits.size());
  CHECK(crc32(view) == 0xCBF43926);
  CHECK(crc32(view) == support::slow_crc32(view));
  Sha256 sha;
  sha.add("abc");
  const Digest digest = sha.finish();
  CHECK(digest.hex() == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
  CHECK(Digest::from_hex(digest.hex()) == digest);
  CHECK(code_of([] { (void)Digest::from_hex("ab"); }) == ErrorCode::words);
}

TEST_CASE("base: GUIDs are mixed-endian on the disk") {
  const Guid guid("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
  const std::array<std::uint8_t, 16> wanted = {0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11,
                                               0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B};
  CHECK(guid.on_disk() == wanted);
  CHECK(Guid(std::span<const std::uint8_t, 16>(wanted)).text() == guid.text());
  CHECK(Guid("c12a7328-f81f-11d2-ba4b-00a0c93ec93b") == guid);
  for (const char* bad :
       {"", "C12A7328-F81F-11D2-BA4B-00A0C93EC93", "C12A7328xF81F-11D2-BA4B-00A0C93EC93B",
        "G12A7328-F81F-11D2-BA4B-00A0C93EC93B"}) {
    CHECK(code_of([bad] { (void)Guid(bad); }) == ErrorCode::words);
  }
  Random a(7);
  Random b(7);
  CHECK(Guid::random(a) == Guid::random(b));
  CHECK(Guid::random(a).text()[14] == '4');
}

TEST_CASE("base: any UTF-16 survives the way to UTF-8 and back") {
  Random random(3);
  for (int round = 0; round < 2000; ++round) {
    std::u16string text;
    for (std::uint64_t n = random.below(20); n > 0; --n) {
      const std::uint64_t kind = random.below(4);
      text.push_back(static_cast<char16_t>(kind == 0   ? 0x20 + random.below(0x5F)
                                           : kind == 1 ? 0xD800 + random.below(0x800)  // surrogates
                                                       : 1 + random.below(0xFFFE)));
    }
    CHECK(to_utf16(to_utf8(text)) == text);
  }
  CHECK(to_utf8(u"潮𝄞") == "潮𝄞");
  CHECK(is_well_formed(u"𝄞"));
  const char16_t lone[] = {0xD834, u'x', 0};
  CHECK_FALSE(is_well_formed(lone));
  CHECK(printable(to_utf8(lone)) == "\uFFFDx");
  CHECK(cut(u"ab𝄞", 3) == u"ab");
  CHECK(cut(u"ab𝄞", 4) == u"ab𝄞");
}

TEST_CASE("base: columns of a terminal") {
  CHECK(display_width("潮位") == 4);
  CHECK(fit("潮位観測", 5, true) == "潮位…");
  CHECK(fit("abc", 5, true) == "abc  ");
  CHECK(fit("abcdef", 4, false) == "abc…");
}

TEST_CASE("base: every byte of an OEM code page survives a round trip") {
  for (const unsigned number : {437u, 850u, 852u, 866u}) {
    const CodePage page(number);
    for (unsigned byte = 1; byte < 256; ++byte) {
      const Bytes one{static_cast<std::uint8_t>(byte)};
      const std::u16string text = page.decode(one);
      REQUIRE(text.size() == 1);
      CHECK(page.encode(text) == one);
    }
  }
  CHECK(CodePage(437).decode(Bytes{0x9A, 0xE1}) == u"Üß");
  CHECK(CodePage(866).decode(Bytes{0x81, 0xE3, 0xA9}) == u"Буй");
  const CodePage japanese(932);
  const Bytes tide{0x92, 0xAA};  // two bytes, one character
  CHECK(japanese.decode(tide) == u"潮");
  CHECK(japanese.encode(u"潮") == tide);
  CHECK(code_of([] { (void)CodePage(99999); }) == ErrorCode::words);
}

TEST_CASE("base: local times become UTC by the zone, also where clocks change") {
  const Zone lisbon = Zone::named("Europe/Lisbon");
  CHECK(format_time(lisbon.to_utc({2029, 7, 1, 12, 0, 2, 50})) == "2029-07-01T11:00:02.5Z");
  CHECK(format_time(lisbon.to_utc({2029, 1, 1, 12, 0, 0, 0})) == "2029-01-01T12:00:00Z");
  CHECK(format_time(lisbon.to_utc({2029, 10, 28, 1, 30, 0, 0})) ==
        "2029-10-28T00:30:00Z");  // shown twice
  CHECK(format_time(lisbon.to_utc({2029, 3, 25, 1, 30, 0, 0})) ==
        "2029-03-25T01:30:00Z");  // skipped
  CHECK(lisbon.to_utc({2029, 2, 30, 0, 0, 0, 0}) == 0);
  const Ticks some = parse_time("2031-03-04T05:06:07.1234567Z");
  CHECK(format_time(some) == "2031-03-04T05:06:07.1234567Z");
  CHECK(lisbon.to_local(some).hour == 5);
  CHECK(code_of([] { (void)Zone::named("Nowhere/Atall"); }) == ErrorCode::words);
}

TEST_CASE("base: sizes and counts as people write them") {
  CHECK(format_bytes(0) == "0 bytes");
  CHECK(format_bytes(1) == "1 byte");
  CHECK(format_bytes(1536) == "1.5 KiB");
  CHECK(format_bytes(600ull << 20) == "600 MiB");
  CHECK(format_bytes(2ull << 40) == "2.0 TiB");
  CHECK(format_count(1234567) == "1,234,567");
  CHECK(plural(1, "file", "files") == "1 file");
}

TEST_CASE("base: arithmetic says so instead of wrapping") {
  CHECK(code_of([] { (void)checked_add(~0ull, 1, "a sum"); }) == ErrorCode::damaged);
  CHECK(code_of([] { (void)checked_mul(1ull << 40, 1ull << 30, "a product"); }) ==
        ErrorCode::damaged);
}

// Long names in pieces of thirteen, and the short name that they belong to.

#include "fat/names.h"

#include <doctest/doctest.h>

using namespace nuvrat;

namespace {

std::array<std::uint8_t, 11> short_name(const char* text) {
  std::array<std::uint8_t, 11> out{};
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = static_cast<std::uint8_t>(text[i]);
  return out;
}

// The entries of a name in the order of the disk: the last piece first.
std::vector<fat::LongEntry> entries_of(std::u16string name, std::uint8_t checksum) {
  const std::size_t pieces = (name.size() + 12) / 13;
  if (name.size() % 13 != 0) name.push_back(0);
  name.resize(pieces * 13, 0xFFFF);
  std::vector<fat::LongEntry> out;
  for (std::size_t piece = pieces; piece > 0; --piece) {
    fat::LongEntry e{};
    e.LDIR_Ord = static_cast<std::uint8_t>(piece | (piece == pieces ? 0x40 : 0));
    e.LDIR_Attr = 0x0F;
    e.LDIR_Chksum = checksum;
    const char16_t* units = name.data() + (piece - 1) * 13;
    for (std::size_t i = 0; i < 5; ++i) e.LDIR_Name1[i] = units[i];
    for (std::size_t i = 0; i < 6; ++i) e.LDIR_Name2[i] = units[5 + i];
    for (std::size_t i = 0; i < 2; ++i) e.LDIR_Name3[i] = units[11 + i];
    out.push_back(e);
  }
  return out;
}

}  // namespace

TEST_CASE("names: a long name is taken whole, in order, and by its own short name only") {
  const auto mine = short_name("TIDEGA~1CSV");
  const auto other = short_name("TIDEGA~2CSV");
  const std::uint8_t sum = fat::short_name_checksum(mine);
  for (std::size_t length = 1; length <= 255; ++length) {
    std::u16string name(length, u'a');
    for (std::size_t i = 0; i < length; ++i) name[i] = static_cast<char16_t>(u'a' + i % 26);
    const std::vector<fat::LongEntry> entries = entries_of(name, sum);
    fat::LongName taken;
    for (const fat::LongEntry& e : entries) taken.add(e);
    CHECK(taken.pending());
    CHECK(taken.take(mine) == name);
    CHECK_FALSE(taken.pending());
    for (const fat::LongEntry& e : entries) taken.add(e);
    CHECK(taken.take(other).empty());
    if (entries.size() < 2) continue;
    taken.clear();
    for (std::size_t i = 1; i < entries.size(); ++i) taken.add(entries[i]);  // the first is missing
    CHECK(taken.take(mine).empty());
    taken.clear();
    for (std::size_t i = 0; i + 1 < entries.size(); ++i) taken.add(entries[i]);  // the last is
    CHECK(taken.take(mine).empty());
  }
}

TEST_CASE("names: a label's first byte is never that of a deleted entry") {
  const CodePage page(850);
  const auto bytes = fat::label_bytes("\u00D5RRELUNE", page);
  CHECK(bytes[0] == 0x05);
  CHECK(fat::label_text(bytes, page) == "\u00D5RRELUNE");
  CHECK(fat::label_bytes("", page) == std::array<std::uint8_t, 11>{});
}

TEST_CASE("names: 8.3 with case bits, a label without its padding") {
  const CodePage page(437);
  fat::DirEntry entry{};
  entry.DIR_Name = short_name("GAUGE7  CSV");
  CHECK(fat::short_name_text(entry, page, true) == u"GAUGE7.CSV");
  entry.DIR_NTRes = 0x08;
  CHECK(fat::short_name_text(entry, page, true) == u"gauge7.CSV");
  CHECK(fat::short_name_text(entry, page, false) == u"GAUGE7.CSV");
  entry.DIR_NTRes = 0x18;
  CHECK(fat::short_name_text(entry, page, true) == u"gauge7.csv");
  entry.DIR_Name = short_name("NOTES      ");
  CHECK(fat::short_name_text(entry, page, true) == u"notes");
  entry.DIR_NTRes = 0;
  entry.DIR_Name[0] = 0x05;  // stands for E5, which would mean deleted
  CHECK(fat::short_name_text(entry, page, true)[0] == page.decode(Bytes{0xE5})[0]);
  CHECK(fat::label_text(short_name("TIDES      "), page) == "TIDES");
}

// Every OEM code page, every byte and every pair of bytes, against tables that aren't the
// library's: those that Python ships, made from the published ones.

#include <fstream>
#include <map>
#include <sstream>

#include <fmt/core.h>

#include "support.h"

using namespace nuvrat;

namespace {

// Lines "page hex-bytes hex-unit": all that Python decodes to one unit beyond ASCII.
constexpr const char* script = R"py(
import codecs
PAGES = [437, 720, 737, 775, 850, 852, 855, 857, 858, 860, 861, 862, 863, 864, 865, 866, 869, 874,
         932, 936, 949, 950, 1250, 1251, 1252, 1253, 1254, 1255, 1256, 1257, 1258]
for page in PAGES:
    name = "cp%d" % page
    ones = {}
    for lead in range(0x80, 0x100):
        try:
            unit = bytes([lead]).decode(name)
        except UnicodeDecodeError:
            unit = ""
        if len(unit) == 1:
            ones[lead] = ord(unit)
        print(page, "%02x" % lead, "%04x" % ones.get(lead, 0))
    if page not in (932, 936, 949, 950):
        continue
    for lead in range(0x81, 0xFF):
        for trail in range(0x40, 0xFF):
            if lead in ones:
                continue
            try:
                unit = bytes([lead, trail]).decode(name)
            except UnicodeDecodeError:
                continue
            if len(unit) == 1 and ord(unit) < 0xE000 or ord(unit[0]) > 0xF8FF:
                print(page, "%02x%02x" % (lead, trail), "%04x" % ord(unit))
)py";

// Where Python follows its maker's systems, which map what the published table leaves out.
bool is_left_out(unsigned page, unsigned bytes) {
  // Characters of one maker's extension, in a part that the published table leaves to users.
  if (page == 950 && bytes >= 0xC6A1 && bytes <= 0xC7FC) return true;
  return page == 932 && (bytes == 0x80 || bytes == 0xA0 || bytes >= 0xFD) && bytes <= 0xFF;
}
// The published table of 936 has the euro there, which Python's leaves out.
bool is_added(unsigned page, unsigned bytes) {
  return page == 936 && bytes == 0x80;
}

}  // namespace

TEST_CASE("code pages: every byte means what the published tables say, and comes back as it was") {
  const support::Folder folder;
  std::ofstream(folder / "tables.py") << script;
  const auto tables = support::run("python3 " + (folder / "tables.py").string());
  REQUIRE_MESSAGE(tables.status == 0, tables.errors);
  std::istringstream in(tables.out);
  std::map<unsigned, CodePage> pages;
  std::uint64_t bytes = 0, pairs = 0, wrong = 0;
  std::string hex;
  for (unsigned number = 0, wanted = 0; in >> number >> hex >> std::hex >> wanted >> std::dec;) {
    const CodePage& page = pages.try_emplace(number, number).first->second;
    const auto value = static_cast<unsigned>(std::stoul(hex, nullptr, 16));
    Bytes raw;
    if (hex.size() == 4) raw.push_back(static_cast<std::uint8_t>(value >> 8));
    raw.push_back(static_cast<std::uint8_t>(value));
    const std::u16string text = page.decode(raw);
    ++(raw.size() == 1 ? bytes : pairs);
    if (wanted != 0 && !is_left_out(number, value) &&
        text != std::u16string(1, static_cast<char16_t>(wanted))) {
      if (++wrong < 20)
        FAIL_CHECK(fmt::format("{}: {} is {:04X}, and {:04X} in the table", number, hex,
                               static_cast<unsigned>(text[0]), wanted));
    }
    // A byte that means nothing by itself is kept, whatever stands for it.
    const bool alone = wanted == 0 && !is_added(number, value);
    if (alone && (text.size() != 1 || (text[0] >> 8) != 0xF7) && ++wrong < 20)
      FAIL_CHECK(fmt::format("{}: {} is {:04X}, and nothing in the table", number, hex,
                             static_cast<unsigned>(text[0])));
    // Of two pairs that mean the same only one can come back.
    const Bytes back = page.encode(text);
    if (back != raw && (raw.size() == 1 || page.decode(back) != text) && ++wrong < 20)
      FAIL_CHECK(fmt::format("{}: {} doesn't come back", number, hex));
  }
  MESSAGE(pages.size() << " code pages, " << bytes << " bytes, " << pairs << " pairs");
  CHECK(pages.size() == 31);
  CHECK(wrong == 0);
}

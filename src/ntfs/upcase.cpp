#include "ntfs/upcase.h"

#include <algorithm>

#include <unicode/uchar.h>
#include <unicode/utf16.h>

namespace nuvrat {

UpCase::UpCase() : table_(65536) {
  for (UChar32 c = 0; c < 65536; ++c) {
    const UChar32 upper = U16_IS_SURROGATE(c) ? c : u_toupper(c);
    const bool fits = upper < 65536 && !(c >= 0x80 && upper < 0x80);
    table_[static_cast<std::size_t>(c)] = static_cast<char16_t>(fits ? upper : c);
  }
}

UpCase::UpCase(ByteView contents) : table_(65536) {
  for (std::size_t i = 0; i < table_.size(); ++i) {
    const bool there = 2 * i + 1 < contents.size();
    table_[i] = static_cast<char16_t>(i);
    if (there) table_[i] = static_cast<char16_t>(contents[2 * i] | contents[2 * i + 1] << 8);
  }
}

std::u16string UpCase::fold(std::u16string_view name) const {
  std::u16string out(name);
  for (char16_t& unit : out) unit = table_[unit];
  return out;
}

std::strong_ordering UpCase::compare(std::u16string_view a, std::u16string_view b) const {
  return std::lexicographical_compare_three_way(
      a.begin(), a.end(), b.begin(), b.end(),
      [this](char16_t x, char16_t y) { return table_[x] <=> table_[y]; });
}

Bytes UpCase::contents() const {
  Bytes out;
  out.reserve(table_.size() * 2);
  for (const char16_t unit : table_) {
    out.push_back(static_cast<std::uint8_t>(unit));
    out.push_back(static_cast<std::uint8_t>(unit >> 8));
  }
  return out;
}

}  // namespace nuvrat

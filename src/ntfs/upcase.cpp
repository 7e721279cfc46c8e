#include "ntfs/upcase.h"

#include <algorithm>

#include <unicode/uchar.h>
#include <unicode/utf16.h>

namespace nuvrat::ntfs {

namespace {

// Tables of the systems that made NTFS are as old as this, and hold no later letter.
bool is_old(UChar32 c) {
  UVersionInfo age;
  u_charAge(c, age);
  return age[0] > 0 && (age[0] < 5 || (age[0] == 5 && age[1] == 0));
}

// Small and large letter lead to each other: what doesn't is a letter by itself.
bool is_pair(UChar32 small, UChar32 large) {
  return large < 65536 && !(small >= 0x80 && large < 0x80) && u_tolower(large) == small &&
         is_old(small) && is_old(large);
}

}  // namespace

UpCase::UpCase() {
  // Made once: it asks the character database 65,536 times.
  static const std::vector<char16_t> made = [] {
    std::vector<char16_t> out(65536);
    for (UChar32 c = 0; c < 65536; ++c) {
      const UChar32 large = U16_IS_SURROGATE(c) ? c : u_toupper(c);
      out[static_cast<std::size_t>(c)] = static_cast<char16_t>(is_pair(c, large) ? large : c);
    }
    return out;
  }();
  table_ = made;
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

}  // namespace nuvrat::ntfs

#include "fat/names.h"

#include <algorithm>

#include <unicode/uchar.h>

namespace nuvrat::fat {
namespace {

std::size_t trimmed(ByteView bytes) {
  std::size_t n = bytes.size();
  while (n > 0 && bytes[n - 1] == ' ') --n;
  return n;
}

std::u16string lower(std::u16string text) {
  for (char16_t& unit : text) unit = static_cast<char16_t>(u_tolower(unit));
  return text;
}

}  // namespace

std::uint8_t short_name_checksum(const std::array<std::uint8_t, 11>& name) {
  unsigned sum = 0;
  for (const std::uint8_t b : name) sum = (((sum & 1) << 7) + (sum >> 1) + b) & 0xFF;
  return static_cast<std::uint8_t>(sum);
}

std::u16string short_name_text(const DirEntry& entry, const CodePage& page, bool cased) {
  std::array<std::uint8_t, 11> bytes = entry.DIR_Name;
  if (bytes[0] == 0x05) bytes[0] = entry_deleted;
  const ByteView all(bytes);
  std::u16string base = page.decode(all.first(trimmed(all.first(8))));
  std::u16string extension = page.decode(all.subspan(8, trimmed(all.subspan(8, 3))));
  if (cased && (entry.DIR_NTRes & 0x08) != 0) base = lower(base);
  if (cased && (entry.DIR_NTRes & 0x10) != 0) extension = lower(extension);
  return extension.empty() ? base : base + u"." + extension;
}

std::string label_text(const std::array<std::uint8_t, 11>& label, const CodePage& page) {
  std::array<std::uint8_t, 11> bytes = label;
  if (bytes[0] == 0x05) bytes[0] = entry_deleted;
  const ByteView all(bytes);
  return to_utf8(page.decode(all.first(trimmed(all))));
}

namespace {

bool kept_for_others(char16_t c) {
  constexpr std::u16string_view forbidden = u"\"*/:<>?\\|";
  return c < 0x20 || forbidden.find(c) != forbidden.npos;
}

}  // namespace

bool allows_name(std::u16string_view name) {
  if (name.empty() || name.size() > 255 || name.back() == u'.' || name.back() == u' ') return false;
  return std::none_of(name.begin(), name.end(), kept_for_others);
}

std::u16string safe_name(std::u16string_view name) {
  std::u16string out(name);
  std::replace_if(out.begin(), out.end(), kept_for_others, u'_');
  for (std::size_t i = out.size(); i > 0 && (out[i - 1] == u'.' || out[i - 1] == u' '); --i)
    out[i - 1] = u'_';
  return out.empty() ? u"_" : out;
}

std::string label_for(std::u16string_view label, const CodePage& page) {
  constexpr std::u16string_view forbidden = u"\"*+,./:;<=>?[\\]|";
  Bytes out;
  std::u16string text;
  for (const char16_t unit : label) {
    char16_t capital = static_cast<char16_t>(u_toupper(unit));
    if (capital < 0x20 || forbidden.find(capital) != forbidden.npos ||
        page.encode(std::u16string_view(&capital, 1)).empty())
      capital = u'_';
    const Bytes bytes = page.encode(std::u16string_view(&capital, 1));
    if (out.size() + bytes.size() > 11) break;
    out.insert(out.end(), bytes.begin(), bytes.end());
    text.push_back(capital);
  }
  while (!text.empty() && text.back() == u' ') text.pop_back();
  return to_utf8(text);
}

std::array<std::uint8_t, 11> label_bytes(std::string_view label, const CodePage& page) {
  std::array<std::uint8_t, 11> out{};
  const Bytes bytes = page.encode(to_utf16(label));
  if (bytes.empty()) return out;
  out.fill(' ');
  std::copy_n(bytes.begin(), std::min(bytes.size(), out.size()), out.begin());
  if (out[0] == entry_deleted) out[0] = 0x05;
  return out;
}

void LongName::add(const LongEntry& entry) {
  const unsigned order = entry.LDIR_Ord & 0x3F;
  if ((entry.LDIR_Ord & 0x40) != 0) {
    clear();
    checksum_ = entry.LDIR_Chksum;
    expected_ = order;
  }
  if (order == 0 || order > 20 || order != expected_ || entry.LDIR_Chksum != checksum_) {
    clear();
    return;
  }
  std::array<char16_t, 13> piece;
  std::size_t count = 0;
  bool ended = false;
  const auto add_units = [&](const auto& units) {
    for (const auto& unit : units) {
      ended |= unit.value() == 0;
      if (!ended) piece[count++] = static_cast<char16_t>(unit.value());
    }
  };
  add_units(entry.LDIR_Name1);
  add_units(entry.LDIR_Name2);
  add_units(entry.LDIR_Name3);
  begin_ -= count;
  std::copy_n(piece.begin(), count, units_.begin() + static_cast<std::ptrdiff_t>(begin_));
  expected_ = order - 1;
}

std::u16string LongName::take(const std::array<std::uint8_t, 11>& short_name) {
  const bool whole = expected_ == 0 && checksum_ == short_name_checksum(short_name);
  std::u16string out;
  if (whole && units_.size() - begin_ <= 255)
    out.assign(units_.data() + begin_, units_.size() - begin_);
  clear();
  return out;
}

}  // namespace nuvrat::fat

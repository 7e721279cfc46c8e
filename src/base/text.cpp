#include <charconv>

#include <fmt/core.h>
#include <unicode/uchar.h>
#include <unicode/utf16.h>
#include <unicode/utf8.h>

#include <nuvrat/columns.h>
#include <nuvrat/text.h>

namespace nuvrat {
namespace {

constexpr UChar32 replacement = 0xFFFD;

void append_utf8(std::string& out, UChar32 code) {
  const auto c = static_cast<std::uint32_t>(code);
  std::uint8_t buffer[4];
  std::size_t n = 0;
  // Written out because ICU's own macro narrows without a cast.
  const auto put = [&](std::uint32_t byte) { buffer[n++] = static_cast<std::uint8_t>(byte); };
  if (c < 0x80) {
    put(c);
  } else if (c < 0x800) {
    put(0xC0 | c >> 6);
    put(0x80 | (c & 0x3F));
  } else {
    if (c > 0xFFFF) put(0xF0 | c >> 18);
    put(c > 0xFFFF ? 0x80 | (c >> 12 & 0x3F) : 0xE0 | c >> 12);
    put(0x80 | (c >> 6 & 0x3F));
    put(0x80 | (c & 0x3F));
  }
  out.append(reinterpret_cast<const char*>(buffer), n);
}

#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wconversion"  // ICU's macro narrows without a cast
// The next code point, with lone surrogates as they are; -1 for bytes that are no UTF-8.
UChar32 next_code_point(std::string_view text, std::size_t& at) {
  const auto byte = [&](std::size_t i) { return static_cast<std::uint8_t>(text[i]); };
  if (at + 2 < text.size() && byte(at) == 0xED && (byte(at + 1) & 0xE0) == 0xA0 &&
      (byte(at + 2) & 0xC0) == 0x80) {
    const UChar32 c = 0xD000 | (byte(at + 1) & 0x3F) << 6 | (byte(at + 2) & 0x3F);
    at += 3;
    return c;
  }
  UChar32 c = 0;
  U8_NEXT(text.data(), at, text.size(), c);
  return c;
}

#pragma GCC diagnostic pop

}  // namespace

std::string to_utf8(std::u16string_view text) {
  std::string out;
  out.reserve(text.size());
  for (std::size_t at = 0; at < text.size();) {
    if (text[at] < 0x80) {
      out.push_back(static_cast<char>(text[at++]));
      continue;
    }
    UChar32 c = 0;
    U16_NEXT(text.data(), at, text.size(), c);
    append_utf8(out, c);
  }
  return out;
}

std::string utf16_digits(std::u16string_view text) {
  std::string out;
  for (const char16_t unit : text) out += fmt::format("{:04x}", static_cast<unsigned>(unit));
  return out;
}

std::u16string from_utf16_digits(std::string_view digits) {
  std::u16string out;
  for (std::size_t at = 0; at + 4 <= digits.size(); at += 4) {
    unsigned unit = 0;
    const auto* end = digits.data() + at + 4;
    if (std::from_chars(digits.data() + at, end, unit, 16).ptr != end) return {};
    out.push_back(static_cast<char16_t>(unit));
  }
  return out;
}

std::u16string to_utf16(std::string_view text) {
  std::u16string out;
  out.reserve(text.size());
  for (std::size_t at = 0; at < text.size();) {
    UChar32 c = next_code_point(text, at);
    if (c < 0) c = replacement;
    if (c > 0xFFFF) {
      out.push_back(static_cast<char16_t>(U16_LEAD(c)));
      out.push_back(static_cast<char16_t>(U16_TRAIL(c)));
    } else {
      out.push_back(static_cast<char16_t>(c));
    }
  }
  return out;
}

std::u16string fold_case(std::u16string_view text) {
  std::u16string out;
  out.reserve(text.size());
  for (std::size_t at = 0; at < text.size();) {
    UChar32 c = 0;
    U16_NEXT(text.data(), at, text.size(), c);
    const UChar32 folded = U_IS_SURROGATE(c) ? c : u_foldCase(c, U_FOLD_CASE_DEFAULT);
    if (folded > 0xFFFF) {
      out.push_back(static_cast<char16_t>(U16_LEAD(folded)));
      out.push_back(static_cast<char16_t>(U16_TRAIL(folded)));
    } else {
      out.push_back(static_cast<char16_t>(folded));
    }
  }
  return out;
}

bool is_well_formed(std::u16string_view text) {
  for (std::size_t at = 0; at < text.size();) {
    UChar32 c = 0;
    U16_NEXT(text.data(), at, text.size(), c);
    if (U_IS_SURROGATE(c)) return false;
  }
  return true;
}

std::string as_argument(std::string_view path) {
  constexpr std::string_view special = " \t\n\"'$`\\!*?[](){}<>|&;#~";
  if (!path.empty() && path.find_first_of(special) == path.npos) return std::string(path);
  std::string out = "\"";
  for (const char c : path) {
    if (std::string_view("\"$`\\").find(c) != std::string_view::npos) out += '\\';
    out += c;
  }
  return out + "\"";
}

std::string printable(std::string_view utf8) {
  std::string out;
  for (std::size_t at = 0; at < utf8.size();) {
    UChar32 c = next_code_point(utf8, at);
    const auto kind = c < 0 ? static_cast<std::int8_t>(U_CONTROL_CHAR) : u_charType(c);
    const bool breaks_lines = kind == U_LINE_SEPARATOR || kind == U_PARAGRAPH_SEPARATOR;
    if (kind == U_CONTROL_CHAR || kind == U_SURROGATE || kind == U_FORMAT_CHAR || breaks_lines)
      c = replacement;
    append_utf8(out, c);
  }
  return out;
}

namespace {

std::size_t width_of(UChar32 c) {
  const auto kind = u_charType(c);
  if (kind == U_NON_SPACING_MARK || kind == U_ENCLOSING_MARK || kind == U_FORMAT_CHAR) return 0;
  const auto wide = u_getIntPropertyValue(c, UCHAR_EAST_ASIAN_WIDTH);
  return wide == U_EA_FULLWIDTH || wide == U_EA_WIDE ? 2 : 1;
}

}  // namespace

std::size_t display_width(std::string_view utf8) {
  std::size_t width = 0;
  for (std::size_t at = 0; at < utf8.size();) {
    const UChar32 c = next_code_point(utf8, at);
    width += c < 0 ? 1 : width_of(c);
  }
  return width;
}

std::string fit(std::string_view utf8, std::size_t columns, bool pad) {
  std::string out(utf8);
  std::size_t width = display_width(utf8);
  if (width > columns) {
    out.clear();
    width = 0;
    for (std::size_t at = 0; at < utf8.size();) {
      const UChar32 c = next_code_point(utf8, at);
      const std::size_t w = c < 0 ? 1 : width_of(c);
      if (width + w + 1 > columns) break;
      append_utf8(out, c < 0 ? replacement : c);
      width += w;
    }
    if (columns > 0) {
      out += "…";
      ++width;
    }
  }
  if (pad && width < columns) out.append(columns - width, ' ');
  return out;
}

std::u16string cut(std::u16string_view text, std::size_t units) {
  if (text.size() <= units) return std::u16string(text);
  if (units > 0 && U16_IS_LEAD(text[units - 1]) && U16_IS_TRAIL(text[units])) --units;
  return std::u16string(text.substr(0, units));
}

}  // namespace nuvrat

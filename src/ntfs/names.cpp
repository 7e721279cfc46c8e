#include "ntfs/names.h"

#include <algorithm>
#include <array>
#include <string>
#include <string_view>

namespace nuvrat::ntfs {
namespace {

char16_t upper(char16_t c) {
  return c >= u'a' && c <= u'z' ? static_cast<char16_t>(c - 32) : c;
}

// Asked of every name of a volume: a table.
constexpr std::array<bool, 128> allowed = [] {
  std::array<bool, 128> out{};
  for (std::size_t c = 0x20; c < out.size(); ++c) out[c] = true;
  for (const char16_t c : std::u16string_view(u"\"*/:<>?\\|")) out[c] = false;
  return out;
}();

bool is_device(std::u16string_view name) {
  std::u16string_view base = name.substr(0, name.find(u'.'));
  while (!base.empty() && base.back() == u' ') base.remove_suffix(1);
  if (base.size() < 3 || base.size() > 7) return false;
  std::u16string stem(base);
  std::transform(stem.begin(), stem.end(), stem.begin(), upper);
  for (const std::u16string_view device : {u"CON", u"PRN", u"AUX", u"NUL", u"CONIN$", u"CONOUT$"}) {
    if (stem == device) return true;
  }
  // The digits one to three count when they are raised, too.
  constexpr std::u16string_view digits = u"123456789\u00B9\u00B2\u00B3";
  return stem.size() == 4 && digits.find(stem[3]) != digits.npos &&
         (stem.compare(0, 3, u"COM") == 0 || stem.compare(0, 3, u"LPT") == 0);
}

}  // namespace

bool win32_allows(std::u16string_view name) {
  if (name.empty() || name.back() == u' ' || name.back() == u'.') return false;
  const bool characters = std::all_of(name.begin(), name.end(),
                                      [](char16_t c) { return c >= allowed.size() || allowed[c]; });
  return characters && !is_device(name);
}

bool is_short_name(std::u16string_view name) {
  if (!win32_allows(name)) return false;
  const std::size_t dot = name.find(u'.');
  const std::u16string_view base = name.substr(0, dot);
  const std::u16string_view rest = dot == name.npos ? std::u16string_view() : name.substr(dot + 1);
  if (base.empty() || base.size() > 8 || rest.size() > 3) return false;
  return name.find_first_of(u" +,;=[]") == name.npos && rest.find(u'.') == rest.npos;
}

}  // namespace nuvrat::ntfs

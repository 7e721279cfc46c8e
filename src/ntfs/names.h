#pragma once
// Which names belong into which of NTFS's name spaces.

#include <string_view>

namespace nuvrat::ntfs {

/// Whether the Win32 name space allows it: no  " * / : < > ? \ |  and no control character, no
/// blank or dot at its end, and no name of a device before the first dot.
[[nodiscard]] bool win32_allows(std::u16string_view name);

/// Whether it is a short name too, of eight and three characters: what stands for itself in the DOS
/// name space. A blank is none of its characters.
[[nodiscard]] bool is_short_name(std::u16string_view name);

}  // namespace nuvrat::ntfs

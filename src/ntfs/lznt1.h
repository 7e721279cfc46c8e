#pragma once
// LZNT1, the scheme of compressed files.

#include <nuvrat/bytes.h>

namespace nuvrat::ntfs {

/// Unpacks one unit into `out`; what the packed bytes don't fill is zero. False when they are
/// damaged.
[[nodiscard]] bool unpack_lznt1(ByteView packed, ByteSpan out);

}  // namespace nuvrat::ntfs

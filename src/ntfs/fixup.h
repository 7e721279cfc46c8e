#pragma once
// The update sequence: the last two bytes of every 512 of a record, so that a torn write shows.

#include <nuvrat/bytes.h>

namespace nuvrat::ntfs {

/// Puts the sequence number in the places and what they held in the array. The header's offset and
/// count must be set.
void protect(ByteSpan record, std::uint16_t number);

/// Puts the bytes back where they belong; false when the header makes no sense or a place doesn't
/// hold the number (the record was torn, or is none).
[[nodiscard]] bool unprotect(ByteSpan record);

}  // namespace nuvrat::ntfs

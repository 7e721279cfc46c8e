#pragma once
// Whether a volume is laid out as its first boot sector says, where the second one says otherwise.

#include "ntfs/volume.h"

namespace nuvrat::ntfs {

/// Throws Error (damaged) where the two boot sectors differ in what the volume itself knows, and it
/// agrees with the second: how long index blocks are (the root folder says it), where $MFTMirr lies
/// (its record does). What can't be read says nothing.
void require_right_boot(const Volume& volume);

}  // namespace nuvrat::ntfs

#pragma once
// What an NTFS volume says of itself: label, serial, how much is free, whether it was closed.

#include <nuvrat/volume.h>

#include "base/finding_log.h"
#include "ntfs/volume.h"

namespace nuvrat::ntfs {

/// Throws Error (damaged) where the records that say so make no sense.
[[nodiscard]] VolumeInfo read_info(const Volume& volume, base::FindingLog& log);

}  // namespace nuvrat::ntfs

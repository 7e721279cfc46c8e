#pragma once
// What a step makes of the disk that a planner plans from.

#include "disk/disk_state.h"

namespace nuvrat {

/// The disk once a step is done.
[[nodiscard]] disk::DiskState after(const Step& step, disk::DiskState state);

}  // namespace nuvrat

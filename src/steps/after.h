#pragma once
// What a step makes of the disk that a planner plans from.

#include "disk/disk_state.h"

namespace nuvrat {

/// The disk once a step is done.
[[nodiscard]] DiskState after(const Step& step, DiskState state);

}  // namespace nuvrat

#pragma once

#include "disk/disk_state.h"

namespace nuvrat {

/// The disk once a step is done.
[[nodiscard]] DiskState after(const Step& step, DiskState state);

}  // namespace nuvrat

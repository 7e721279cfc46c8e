#pragma once

#include <nuvrat/device.h>

namespace nuvrat::disk {

/// Whether a disk, or a partition (a window onto it), says that it is a member of a RAID: of Linux
/// software (superblocks 0.90 and 1), or of the common disk data format. Others aren't known. What
/// the device doesn't give says nothing.
[[nodiscard]] bool is_raid_member(const Device& device);

}  // namespace nuvrat::disk

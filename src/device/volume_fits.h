#pragma once
// What every volume must keep to before anything in it is believed.

#include <nuvrat/device.h>

namespace nuvrat::device {

/// Throws Error (damaged) when a volume of `total_sectors` sectors of `sector_bytes` each can't lie
/// on this device: sectors of another size, or too few of them.
void require_volume_fits(const Device& device, std::uint64_t sector_bytes,
                         std::uint64_t total_sectors);

}  // namespace nuvrat::device

#pragma once
// Whether an NTFS volume keeps the rules of its format. Shares with the reader how bytes become
// attributes and runs; the rules are its own.

#include <nuvrat/device.h>
#include <nuvrat/finding.h>
#include <nuvrat/volume.h>

namespace nuvrat::ntfs {

/// Throws Error (damaged) when the volume can't be read at all, device_read where a sector isn't
/// given. `totals` may be null.
[[nodiscard]] Findings check_volume(const Device& device, VolumeTotals* totals = nullptr);

}  // namespace nuvrat::ntfs

#pragma once
// Restore points: a header in $Boot leads to clusters that look free, and that hold what the volume
// once was. Every change of the volume spoils them.

#include <nuvrat/device.h>

namespace nuvrat::ntfs {

/// Whether the volume has any. False where that sector isn't given.
[[nodiscard]] bool has_snapshots(const Device& volume);

/// Takes the header out of what lies at the volume's sector `first`; other sectors stay.
void end_snapshots(ByteSpan sectors, std::uint64_t first, std::uint32_t sector_bytes);

/// The sector of the volume with the header.
[[nodiscard]] std::uint64_t snapshot_sector(std::uint32_t sector_bytes);

}  // namespace nuvrat::ntfs

#pragma once
// How much a medium writes in one piece: what was asked for, else what the device says of itself.

#include <nuvrat/open.h>

namespace nuvrat::device {

/// `said`: in bytes, by the device; `offset`: where the first whole piece begins, in bytes. Never a
/// part of a logical sector. Throws Error (words) for a size that can't be.
[[nodiscard]] PhysicalSector physical_of(const OpenOptions& options, std::uint32_t sector_size,
                                         std::uint32_t said, std::uint32_t offset);

}  // namespace nuvrat::device

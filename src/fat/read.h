#pragma once
// The FAT reader.

#include <memory>
#include <optional>

#include <nuvrat/volume.h>

#include "fat/boot.h"

namespace nuvrat::fat {

/// True when LBA 0 of the device is a FAT boot sector.
[[nodiscard]] bool is_fat_boot(ByteView sector0);
/// Throws Error (damaged) when the boot sector makes no sense.
[[nodiscard]] std::unique_ptr<VolumeReader> open_reader(const Device& device,
                                                        const ReadOptions& options);

}  // namespace nuvrat::fat

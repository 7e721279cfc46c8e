#pragma once
// The NTFS reader.

#include <memory>

#include <nuvrat/volume.h>

namespace nuvrat::ntfs {

/// Throws Error (damaged) when the boot sector or $MFT's first record make no sense.
[[nodiscard]] std::unique_ptr<VolumeReader> open_reader(const Device& device,
                                                        const ReadOptions& options);

}  // namespace nuvrat::ntfs

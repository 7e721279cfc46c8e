#pragma once
// Image files, block devices and disks that a server offers (NBD), opened as Devices.

#include <memory>
#include <string>
#include <string_view>

#include <nuvrat/device.h>

namespace NUVRAT_API nuvrat {

struct OpenOptions {
  bool writable = false;
  /// For image files: 512 or 4096; 0 means 512. A block device knows its own, and another is
  /// refused.
  std::uint32_t sector_size = 0;
  /// Bytes that the medium writes in one piece. 0: what the device says, and for image files
  /// 4096, since what they will be written to is unknown. Adapters may say less than is true.
  std::uint32_t physical_sector_size = 0;
};

/// A disk that is named by an address (nbd://HOST/EXPORT), not by a path.
[[nodiscard]] bool is_address(std::string_view path);

/// Opens an image file, a block device, or an address. A block device is opened exclusively when
/// writable, an image is locked; of a disk behind an address it is not known who else uses it.
/// Throws Error: words (no such file, size not whole sectors), busy (in use).
[[nodiscard]] std::unique_ptr<Device> open_device(const std::string& path,
                                                  const OpenOptions& options = {});

/// Makes a sparse image file of `sectors` zero sectors; an existing file is refused unless
/// `replace`.
void create_image(const std::string& path, std::uint64_t sectors, std::uint32_t sector_size,
                  bool replace);

}  // namespace nuvrat

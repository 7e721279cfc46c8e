#include "device/volume_fits.h"

#include <fmt/core.h>

#include <nuvrat/error.h>

namespace nuvrat {

void device::require_volume_fits(const Device& device, std::uint64_t sector_bytes,
                                 std::uint64_t total_sectors) {
  if (sector_bytes % device.sector_size() != 0) {
    throw Error(ErrorCode::damaged,
                fmt::format("the volume is made for sectors of {} bytes, the disk has {}",
                            sector_bytes, device.sector_size()),
                {.sector = 0}, fmt::format("For an image, try --sector-size {}", sector_bytes));
  }
  const std::uint64_t total = total_sectors * (sector_bytes / device.sector_size());
  if (total > device.sectors()) {
    throw Error(ErrorCode::damaged,
                fmt::format("the volume says that it has {} sectors, but its place has {}: {} are "
                            "missing",
                            total, device.sectors(), total - device.sectors()),
                {.sector = 0}, "Find out where the rest of it is before anything is written");
  }
}

}  // namespace nuvrat

#include "ntfs/snapshots.h"

#include <algorithm>
#include <array>

#include "device/given.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t header_at = 0x1E00;  // of the volume
constexpr std::uint64_t header_bytes = 512;
// 3808876b-c176-4e48-b7ae-04046e6cc752
constexpr std::array<std::uint8_t, 16> header_mark = {
    0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E, 0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};

}  // namespace

std::uint64_t snapshot_sector(std::uint32_t sector_bytes) {
  return header_at / sector_bytes;
}

bool has_snapshots(const Device& volume) {
  const std::uint64_t at = snapshot_sector(volume.sector_size());
  Bytes sector(volume.sector_size());
  if (at >= volume.sectors() || !device::is_given(volume, at, sector)) return false;
  return std::equal(header_mark.begin(), header_mark.end(),
                    sector.begin() + static_cast<std::ptrdiff_t>(header_at % volume.sector_size()));
}

void end_snapshots(ByteSpan sectors, std::uint64_t first, std::uint32_t sector_bytes) {
  const std::uint64_t begin = first * sector_bytes;
  if (begin > header_at || begin + sectors.size() < header_at + header_bytes) return;
  std::fill_n(sectors.begin() + static_cast<std::ptrdiff_t>(header_at - begin), header_bytes,
              std::uint8_t{0});
}

}  // namespace nuvrat::ntfs

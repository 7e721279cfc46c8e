#include "disk/members.h"

#include <array>
#include <cstddef>

#include <boost/endian/buffers.hpp>

#include <nuvrat/error.h>

#include "base/record.h"
#include "device/given.h"

namespace nuvrat {
namespace {

namespace be = boost::endian;

// What the superblocks of Linux software RAIDs have in common, and where one of version 1 says that
// it is.
struct RaidSuperblock {
  be::little_uint32_buf_t magic;
  be::little_uint32_buf_t major_version;
  std::array<std::uint8_t, 136> others;
  be::little_uint64_buf_t super_offset;  // in units of 512 bytes
};
static_assert(offsetof(RaidSuperblock, super_offset) == 144);

// The sector at this byte; empty where the device hasn't it, or doesn't give it.
Bytes sector_at(const Device& device, std::uint64_t byte) {
  const std::uint64_t lba = byte / device.sector_size();
  if (lba >= device.sectors()) return {};
  return device::read_if_given(device, lba).value_or(Bytes());
}

// Of version 0.90 near the end, in the byte order of the machine that made it.
bool has_old_superblock(const Device& device, std::uint64_t byte) {
  const Bytes sector = sector_at(device, byte);
  if (sector.empty()) return false;
  const auto block = base::load<RaidSuperblock>(sector);
  const std::uint32_t magic = block.magic.value();
  return (magic == 0xA92B4EFC || magic == 0xFC4E2BA9) && block.major_version.value() == 0;
}

bool has_superblock(const Device& device, std::uint64_t byte) {
  const Bytes sector = sector_at(device, byte);
  if (sector.empty()) return false;
  const auto block = base::load<RaidSuperblock>(sector);
  return block.magic.value() == 0xA92B4EFC && block.major_version.value() == 1 &&
         block.super_offset.value() == byte / 512;
}

// The anchor of a RAID of the common disk data format: the last sector.
bool has_ddf_anchor(const Device& device) {
  const Bytes last = sector_at(device, (device.sectors() - 1) * device.sector_size());
  return !last.empty() && base::load<be::big_uint32_buf_t>(last).value() == 0xDE11DE11;
}

}  // namespace

bool disk::is_raid_member(const Device& device) {
  constexpr std::uint64_t least = 131072;
  const std::uint64_t bytes = device.sectors() * device.sector_size();
  if (bytes < least) return false;
  return has_ddf_anchor(device) || has_old_superblock(device, bytes / 65536 * 65536 - 65536) ||
         has_superblock(device, (bytes - 8192) / 4096 * 4096) || has_superblock(device, 4096);
}

}  // namespace nuvrat

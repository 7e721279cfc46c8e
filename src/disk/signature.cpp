// What a volume is, by the marks that each kind leaves in fixed places.

#include <algorithm>
#include <array>
#include <string_view>

#include <nuvrat/volume.h>

#include "fat/boot.h"
#include "fat/check.h"
#include "fat/read.h"
#include "ntfs/check.h"
#include "ntfs/read.h"

namespace nuvrat {
namespace {

struct Mark {
  std::size_t offset;
  std::string_view bytes;
  VolumeKind kind;
  const char* description;
};

constexpr std::size_t looked_at = 69632;  // 68 KiB: the last mark ends before

constexpr std::array marks = {
    Mark{3, "NTFS    ", VolumeKind::ntfs, "NTFS"},
    Mark{3, "EXFAT   ", VolumeKind::exfat, "exFAT"},
    Mark{3, "-FVE-FS-", VolumeKind::other, "encrypted volume (FVE)"},
    Mark{4086, "SWAPSPACE2", VolumeKind::swap, "Linux swap"},
    Mark{1080, "\x53\xEF", VolumeKind::linux_data, "Linux ext file system"},
    Mark{0, "XFSB", VolumeKind::linux_data, "XFS"},
    Mark{65600, "_BHRfS_M", VolumeKind::linux_data, "Btrfs"},
    Mark{0, "LUKS\xBA\xBE", VolumeKind::linux_data, "encrypted volume (LUKS)"},
    Mark{536, "LVM2 001", VolumeKind::linux_data, "LVM member"},
    Mark{4096, "\xFC\x4E\x2B\xA9", VolumeKind::linux_data, "RAID member"},
    Mark{0, "\xFC\x4E\x2B\xA9", VolumeKind::linux_data, "RAID member"},
    Mark{1024, "H+", VolumeKind::other, "HFS+"},
    Mark{32, "NXSB", VolumeKind::other, "APFS"},
    Mark{32769, "CD001", VolumeKind::other, "ISO 9660"},
};

}  // namespace

VolumeSignature recognise_volume(const Device& device) {
  const std::uint64_t sectors =
      std::min<std::uint64_t>(device.sectors(), looked_at / device.sector_size());
  if (sectors == 0) return {};
  const Bytes bytes = device.read(0, sectors);
  for (const Mark& mark : marks) {
    if (mark.offset + mark.bytes.size() > bytes.size()) continue;
    const std::string_view there(reinterpret_cast<const char*>(bytes.data()) + mark.offset,
                                 mark.bytes.size());
    if (there == mark.bytes) return {mark.kind, mark.description};
  }
  if (looks_like_fat(bytes)) {
    std::string fault;
    const auto geometry = parse_fat_boot(bytes, fault);
    return {geometry->kind, geometry->kind == VolumeKind::fat32   ? "FAT32"
                            : geometry->kind == VolumeKind::fat16 ? "FAT16"
                                                                  : "FAT12"};
  }
  return {VolumeKind::unknown, all_zero(bytes) ? "empty" : "unknown contents"};
}

Findings check_volume(const Device& device, const ReadOptions& options) {
  const VolumeSignature signature = recognise_volume(device);
  if (is_fat(signature.kind)) return check_fat(device, options);
  if (signature.kind == VolumeKind::ntfs) return check_ntfs(device);
  return {};
}

std::unique_ptr<VolumeReader> open_volume(const Device& device, const ReadOptions& options) {
  const VolumeSignature signature = recognise_volume(device);
  if (is_fat(signature.kind)) return open_fat(device, options);
  if (signature.kind == VolumeKind::ntfs) return open_ntfs(device, options);
  return nullptr;
}

}  // namespace nuvrat

#pragma once
// The arithmetic of a FAT volume, taken from its boot sector.

#include <optional>
#include <string>

#include <nuvrat/bytes.h>
#include <nuvrat/device.h>
#include <nuvrat/finding.h>
#include <nuvrat/volume_kind.h>

#include "fat/records.h"

namespace nuvrat::fat {

/// All sector numbers are in the volume's own sectors, counted from its first one.
struct Geometry {
  VolumeKind kind = VolumeKind::fat32;
  std::uint32_t sector_bytes = 512;
  std::uint32_t cluster_sectors = 1;
  std::uint32_t reserved_sectors = 1;
  std::uint32_t fats = 2;
  std::uint32_t fat_sectors = 0;  ///< of one copy
  std::uint32_t root_entries = 0;
  std::uint32_t root_sectors = 0;  ///< of the fixed root folder; 0 on FAT32
  std::uint64_t total_sectors = 0;
  std::uint8_t media = 0xF8;       ///< the first byte of a FAT, too
  std::uint32_t clusters = 0;      ///< data clusters, numbered from 2
  std::uint32_t root_cluster = 0;  ///< FAT32
  std::uint32_t fs_info = 0;       ///< FAT32; 0: none
  std::uint32_t backup_boot = 0;   ///< FAT32; 0: none
  std::uint32_t active_fat = 0;
  bool mirrored = true;
  std::uint32_t serial = 0;
  std::uint32_t hidden_sectors = 0;
  std::array<std::uint8_t, 11> label{};
  bool dirty_flag = false;  ///< the boot sector's own note

  [[nodiscard]] std::uint64_t fat_start(std::uint32_t copy) const {
    return reserved_sectors + std::uint64_t{copy} * fat_sectors;
  }
  [[nodiscard]] std::uint64_t root_start() const { return fat_start(fats); }
  [[nodiscard]] std::uint64_t data_start() const { return root_start() + root_sectors; }
  [[nodiscard]] std::uint64_t cluster_start(std::uint32_t cluster) const {
    return data_start() + std::uint64_t{cluster - 2} * cluster_sectors;
  }
  [[nodiscard]] std::uint32_t last_cluster() const { return clusters + 1; }
  [[nodiscard]] std::uint32_t cluster_bytes() const { return cluster_sectors * sector_bytes; }
  [[nodiscard]] bool valid_cluster(std::uint32_t c) const { return c >= 2 && c <= last_cluster(); }
};

/// The type that follows from a cluster count; nothing else decides it.
[[nodiscard]] VolumeKind kind_for(std::uint64_t clusters);
/// So near to where the type changes that systems which count a little otherwise take the volume
/// for another type: nothing new is made there.
[[nodiscard]] bool is_near_limit(std::uint64_t clusters);

/// The geometry, or why this is no FAT boot sector.
[[nodiscard]] std::optional<Geometry> parse_boot(ByteView sector, std::string& fault);

/// So a FAT's first sector begins: the media byte under ones, then the end of a chain, in which two
/// bits may say "left open" and "had errors". Entry 1 of FAT32 is written too freely to count. A
/// sector of ones alone is one that was erased.
[[nodiscard]] bool begins_a_fat(ByteView sector, VolumeKind kind);

/// Bytes that a copy of the FAT needs at least.
[[nodiscard]] std::uint64_t fat_bytes(const Geometry& geometry);

/// The boot sector of a new volume.
[[nodiscard]] Bytes boot_sector(const Geometry& geometry);
/// The label that a boot sector repeats, where it has the field.
void set_label(ByteSpan sector, const Geometry& geometry);
/// The reserved sectors that a boot sector names, the volume's own.
[[nodiscard]] std::uint64_t reserved_sectors_of(ByteView boot);
/// Where code begins in a boot sector, after the parameters.
[[nodiscard]] constexpr std::size_t start_code_at(VolumeKind kind) {
  return kind == VolumeKind::fat32 ? 0x5A : 0x3E;
}
/// Sectors in front of the FATs: at least, which on FAT32 are those up to the second boot sector
/// and its two followers (0 to 8); and as systems lay them out.
[[nodiscard]] constexpr std::uint32_t least_reserved(VolumeKind kind) {
  return kind == VolumeKind::fat32 ? 9 : 1;
}
[[nodiscard]] constexpr std::uint32_t usual_reserved(VolumeKind kind) {
  return kind == VolumeKind::fat32 ? 32 : 1;
}
/// The first `sectors` of the reserved sectors after the boot sector: on FAT32 FSInfo, and the
/// copies of both; the rest zeros.
[[nodiscard]] Bytes reserved_area(const Geometry& geometry, std::uint64_t sectors,
                                  std::uint32_t free, std::uint32_t next);

/// The geometry of the volume on a device whose first sector is `sector0`. Throws Error (damaged)
/// when it makes no sense, is for other sectors, or for a larger place.
[[nodiscard]] Geometry geometry_of(const Device& device, ByteView sector0);

}  // namespace nuvrat::fat

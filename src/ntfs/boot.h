#pragma once
// The arithmetic of an NTFS volume, taken from its boot sector.

#include <optional>
#include <string>

#include <nuvrat/bytes.h>

namespace nuvrat::ntfs {

struct Geometry {
  std::uint32_t sector_bytes = 512;
  std::uint32_t cluster_sectors = 8;
  std::uint64_t total_sectors = 0;  ///< one less than the partition: the last holds the copy
  std::uint64_t mft_lcn = 0;
  std::uint64_t mirror_lcn = 0;
  std::uint32_t record_bytes = 1024;
  std::uint32_t index_bytes = 4096;
  std::uint64_t serial = 0;
  std::uint32_t hidden_sectors = 0;

  [[nodiscard]] std::uint64_t cluster_bytes() const {
    return std::uint64_t{cluster_sectors} * sector_bytes;
  }
  /// More clusters than any attribute can have: its length in bytes has 63 bits.
  [[nodiscard]] std::uint64_t max_in_a_file() const {
    return (std::uint64_t{1} << 63) / cluster_bytes();
  }
  [[nodiscard]] std::uint64_t clusters() const { return total_sectors / cluster_sectors; }
  /// Bytes that an index's VCN counts: a cluster, or 512 where the cluster is larger than a block.
  [[nodiscard]] std::uint64_t index_unit() const {
    return cluster_bytes() <= index_bytes ? cluster_bytes() : 512;
  }
};

/// Bytes of $Bitmap: a bit a cluster, in units of eight bytes.
[[nodiscard]] constexpr std::uint64_t bitmap_bytes(std::uint64_t clusters) {
  return (clusters / 64 + (clusters % 64 != 0 ? 1 : 0)) * 8;
}

/// Whether a boot sector says that it is one of NTFS.
[[nodiscard]] bool is_ntfs_boot(ByteView sector);

/// What a second boot sector is to hold where the volume agrees with the first: of one that isn't a
/// boot sector all of the first, else what says where things lie. Serial number and code stay:
/// nothing says which of two is right.
[[nodiscard]] Bytes merged_boot_copy(ByteView first, ByteView second);

/// The geometry, or why this is no NTFS boot sector.
[[nodiscard]] std::optional<Geometry> parse_boot(ByteView sector, std::string& fault);

}  // namespace nuvrat::ntfs

#pragma once
// What differs from one kind of volume to the other, one row a kind.

#include <optional>
#include <vector>

#include <nuvrat/layout.h>
#include <nuvrat/volume.h>

namespace nuvrat::volume {

struct VolumeRow {
  VolumeKind kind;
  std::unique_ptr<VolumeReader> (*open)(const Device& device, const ReadOptions& options);
  Findings (*check)(const Device& device, const ReadOptions& options, VolumeTotals* totals);
  /// Where second copies of the boot sector may be, in sectors from the volume's first.
  std::vector<std::uint64_t> (*boot_copies)(ByteView boot, const Device& volume);
  /// Sectors behind those that the volume counts that are its own: a second boot sector.
  std::uint64_t behind = 0;
  bool counts_clusters = false;  ///< in 32 bits; otherwise sectors in as many
};
/// Null for a kind that Nuvrat doesn't read.
[[nodiscard]] const VolumeRow* row_of(VolumeKind kind);
/// Of what has this boot sector.
[[nodiscard]] const VolumeRow* row_of_boot(ByteView boot);

/// What in a first sector speaks of a volume, though it can't be read as one: "'FAT16' at byte 54".
/// Empty where nothing does. One wrong field makes no volume an empty place.
[[nodiscard]] std::string trace_of_volume(const Device& volume);

// The one field of a boot sector that says where the volume begins. FAT and NTFS have it in the
// same place.

/// None in a boot sector of a time when it was shorter, or wasn't there.
[[nodiscard]] std::optional<std::uint64_t> hidden_sectors_of(ByteView boot);
/// Counted from the disk's first sector; of a logical, by old systems, from its EBR. None fits.
[[nodiscard]] bool hidden_sectors_fit(std::optional<std::uint64_t> hidden, const Partition& p);
void set_hidden_sectors(ByteSpan boot, std::uint32_t sectors);
/// Copies that are equal to the first one, in sectors from the volume's first.
[[nodiscard]] std::vector<std::uint64_t> equal_boot_copies(const Device& volume, VolumeKind kind,
                                                           ByteView boot);

}  // namespace nuvrat::volume

#pragma once
// What a partition or a bare disk holds, in the words that tables and file systems share.

namespace nuvrat {

/// `linux_data`: file systems and layers of Linux; `other`: recognised, and at home under no one
/// type of partition, such as an encrypted volume.
enum class VolumeKind { unknown, fat12, fat16, fat32, ntfs, exfat, swap, linux_data, other };

[[nodiscard]] const char* name_of(VolumeKind kind);
/// "FAT32", for sentences.
[[nodiscard]] const char* title_of(VolumeKind kind);
[[nodiscard]] inline bool is_fat(VolumeKind kind) {
  return kind == VolumeKind::fat12 || kind == VolumeKind::fat16 || kind == VolumeKind::fat32;
}

}  // namespace nuvrat

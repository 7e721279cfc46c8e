#pragma once
// What a partition or a bare disk holds, in the words that tables and file systems share.

#include <string_view>

namespace nuvrat {

/// `linux_data`: file systems and layers of Linux; `other`: recognised, and at home under no one
/// type of partition, such as an encrypted volume.
enum class VolumeKind { unknown, fat12, fat16, fat32, ntfs, exfat, swap, linux_data, other };

[[nodiscard]] const char* name_of(VolumeKind kind);
/// The kind with that name; unknown for any other.
[[nodiscard]] VolumeKind kind_named(std::string_view name);
/// "FAT32", for sentences.
[[nodiscard]] const char* title_of(VolumeKind kind);
[[nodiscard]] inline bool is_fat(VolumeKind kind) {
  return kind == VolumeKind::fat12 || kind == VolumeKind::fat16 || kind == VolumeKind::fat32;
}

}  // namespace nuvrat

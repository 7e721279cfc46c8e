#pragma once
// Kinds of volumes, in the words that tables and file systems share.

#include <optional>
#include <string_view>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// `linux_data`: file systems and layers of Linux; `other`: recognised, and at home under no one
/// type of partition, such as an encrypted volume.
enum class VolumeKind { unknown, fat12, fat16, fat32, ntfs, exfat, swap, linux_data, other };

[[nodiscard]] const char* name_of(VolumeKind kind);
/// The kind with that name; unknown for any other.
[[nodiscard]] VolumeKind kind_named(std::string_view name);
/// "FAT32", for sentences.
[[nodiscard]] const char* title_of(VolumeKind kind);

/// Kinds that Nuvrat reads, makes and edits. Whatever differs between them is a row (volume/kinds),
/// or a switch in which the compiler misses a new one.
enum class VolumeFormat { fat, ntfs };

/// None for a kind that Nuvrat only recognises.
[[nodiscard]] constexpr std::optional<VolumeFormat> format_of(VolumeKind kind) {
  switch (kind) {
    case VolumeKind::fat12:
    case VolumeKind::fat16:
    case VolumeKind::fat32:
      return VolumeFormat::fat;
    case VolumeKind::ntfs:
      return VolumeFormat::ntfs;
    case VolumeKind::unknown:
    case VolumeKind::exfat:
    case VolumeKind::swap:
    case VolumeKind::linux_data:
    case VolumeKind::other:
      break;
  }
  return std::nullopt;
}

[[nodiscard]] constexpr bool is_fat(VolumeKind kind) {
  return format_of(kind) == VolumeFormat::fat;
}

}  // namespace nuvrat

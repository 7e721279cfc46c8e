#include <nuvrat/volume_kind.h>

namespace nuvrat {

const char* name_of(VolumeKind kind) {
  switch (kind) {
    case VolumeKind::unknown:
      return "unknown";
    case VolumeKind::fat12:
      return "fat12";
    case VolumeKind::fat16:
      return "fat16";
    case VolumeKind::fat32:
      return "fat32";
    case VolumeKind::ntfs:
      return "ntfs";
    case VolumeKind::exfat:
      return "exfat";
    case VolumeKind::swap:
      return "swap";
    case VolumeKind::linux_data:
      return "linux";
    case VolumeKind::other:
      return "other";
  }
  return "unknown";
}

VolumeKind kind_named(std::string_view name) {
  for (const VolumeKind kind :
       {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32, VolumeKind::ntfs,
        VolumeKind::exfat, VolumeKind::swap, VolumeKind::linux_data, VolumeKind::other}) {
    if (name == name_of(kind)) return kind;
  }
  return VolumeKind::unknown;
}

const char* title_of(VolumeKind kind) {
  switch (kind) {
    case VolumeKind::fat12:
      return "FAT12";
    case VolumeKind::fat16:
      return "FAT16";
    case VolumeKind::fat32:
      return "FAT32";
    case VolumeKind::ntfs:
      return "NTFS";
    case VolumeKind::exfat:
      return "exFAT";
    case VolumeKind::unknown:
    case VolumeKind::swap:
    case VolumeKind::linux_data:
    case VolumeKind::other:
      break;
  }
  return name_of(kind);
}

}  // namespace nuvrat

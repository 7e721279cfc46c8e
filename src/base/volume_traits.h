#pragma once
// Facts about file systems by which other rooms decide. A new kind gets its row here.

#include <nuvrat/volume_kind.h>

namespace nuvrat::base {

struct VolumeTraits {
  bool uefi_reads = false;         ///< firmware starts programs from it
  bool carries_system = false;     ///< the systems whose start Nuvrat knows run from it
  bool encrypts_files = false;     ///< each by itself; attribute 0x4000
  bool keeps_extras = false;       ///< permissions, object ids, streams, several names of a file
  bool fine_times = false;         ///< to 100 ns, in UTC
  bool front_moves_files = false;  ///< another start takes a new layout of files
};

[[nodiscard]] constexpr VolumeTraits traits_of(VolumeKind kind) {
  switch (kind) {
    case VolumeKind::fat12:
      return {.front_moves_files = true};
    case VolumeKind::fat16:
    case VolumeKind::fat32:
      return {.uefi_reads = true, .front_moves_files = true};
    case VolumeKind::ntfs:
      return {
          .carries_system = true, .encrypts_files = true, .keeps_extras = true, .fine_times = true};
    case VolumeKind::unknown:
    case VolumeKind::exfat:
    case VolumeKind::swap:
    case VolumeKind::linux_data:
    case VolumeKind::other:
      break;
  }
  return {};
}

}  // namespace nuvrat::base

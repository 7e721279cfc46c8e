#pragma once
// Second boot sectors: what they let a volume be whose first sector is lost.

#include <nuvrat/volume.h>

namespace nuvrat::volume {

/// What every boot sector ends in.
[[nodiscard]] inline bool has_boot_signature(ByteView sector) {
  return sector[510] == 0x55 && sector[511] == 0xAA;
}

/// A second boot sector with which the volume can be opened.
struct BootCopy {
  std::uint64_t at = 0;  ///< in sectors from the volume's first
  Bytes sector;          ///< what is there, and was the first sector
  VolumeInfo info;
  Findings findings{};  ///< of the check, where one was wanted; places are the volume's
  VolumeTotals totals{};

  /// Nothing is wrong with the volume that a mend could not put right.
  [[nodiscard]] bool is_sound() const;
};

enum class CopyCheck { none, whole };
/// Those of a volume whose first sector is not one, or says nonsense: where a format has its second
/// boot sectors, and that say themselves that they are there, and not the same as the first. One
/// that can't be read is none.
[[nodiscard]] std::vector<BootCopy> find_boot_copies(const Device& volume,
                                                     const ReadOptions& options, CopyCheck check);

/// The volume as it is with that first sector, read-only. It must outlive this.
[[nodiscard]] std::unique_ptr<Device> with_first(const Device& volume, Bytes sector);

}  // namespace nuvrat::volume

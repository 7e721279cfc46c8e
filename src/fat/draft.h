#pragma once
// A FAT volume's sectors as they will be: what a mend or a move changes, before it is written.

#include <map>
#include <optional>
#include <vector>

#include <nuvrat/device.h>

#include "fat/boot.h"

namespace nuvrat::fat {

class Draft {
 public:
  /// `device` is the whole disk, `place` the volume on it. Both must outlive the draft.
  Draft(const Device& device, SectorRange place, const Geometry& geometry)
      : device_(device), place_(place), geometry_(geometry) {}

  /// The sector to change; `lba` is the device's, counted from the volume's first.
  Bytes& at(std::uint64_t lba);
  /// What an entry of one copy becomes; the upper four bits of FAT32 stay.
  void set_entry(std::uint32_t copy, std::uint32_t cluster, std::uint32_t value);
  /// The same in every copy that is in use.
  void set_entry(std::uint32_t cluster, std::uint32_t value);
  /// The device's sector, counted from the volume's first, that holds a cluster's entry; none where
  /// two sectors hold it (FAT12).
  [[nodiscard]] std::optional<std::uint64_t> sector_of_entry(std::uint32_t copy,
                                                             std::uint32_t cluster) const;
  /// What differs from `base`, or from the device, by the disk's own sector numbers.
  [[nodiscard]] std::vector<SectorWrite> changes(const Draft* base = nullptr) const;

 private:
  std::uint8_t& byte_at(std::uint64_t byte) {
    return at(byte / device_.sector_size())[byte % device_.sector_size()];
  }
  void set_entry12(std::uint64_t start, std::uint32_t cluster, std::uint32_t value);

  const Device& device_;
  SectorRange place_;
  const Geometry& geometry_;
  std::map<std::uint64_t, Bytes> sectors_;
};

}  // namespace nuvrat::fat

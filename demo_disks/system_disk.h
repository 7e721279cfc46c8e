#pragma once
// The disk of the station's own computer: a system that legacy firmware starts, with the public
// layout of its folders and stand-ins of our own for its programs.

#include <nuvrat/nuvrat.h>

#include "station_hives.h"

namespace orrelune {

/// In MiB.
struct SystemDisk {
  std::uint64_t boot = 100;     ///< the active partition; 0: boot files are on the system's volume
  std::uint64_t system = 600;   ///< the system's volume
  std::uint64_t gap = 0;        ///< room after it
  std::uint64_t recovery = 60;  ///< the last partition
  std::uint64_t behind = 0;     ///< room after that
  bool other_files = false;     ///< the active partition holds more than boot files
  std::uint64_t second = 0;     ///< another system's volume, after the first one's; 0: none
  bool store = true;            ///< the active partition has a boot store
  /// The store names the recovery inside of a longer element, and the system has settings for it.
  bool repair = false;
};

[[nodiscard]] std::uint64_t system_disk_sectors(const SystemDisk& plan, std::uint32_t sector_size);
/// On an empty device of that size: an MBR with p1 (boot files), p2 (the system), p3 (recovery);
/// the first only where boot files are apart.
void make_system_disk(nuvrat::Device& device, const SystemDisk& plan = {}, std::uint64_t seed = 6);

/// Boot code and programs, as they were built.
[[nodiscard]] nuvrat::ByteView mbr_start();
[[nodiscard]] nuvrat::ByteView boot_area_code();
[[nodiscard]] nuvrat::ByteView legacy_stand_in();
[[nodiscard]] nuvrat::ByteView uefi_stand_in();

}  // namespace orrelune

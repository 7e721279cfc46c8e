#pragma once
// The parts of a disk that a computer can boot from: systems by the public layout of their folders,
// and the boot files that lead to them.

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/layout.h>

namespace NUVRAT_API nuvrat {

/// How firmware starts a system.
enum class BootWay { legacy, uefi };
[[nodiscard]] const char* name_of(BootWay way);
/// "UEFI", "legacy firmware".
[[nodiscard]] const char* firmware_words(BootWay way);

/// The machine that a program is made for, by its own header.
enum class Machine { unknown, x86, x86_64, arm64 };
[[nodiscard]] const char* name_of(Machine machine);

/// A letter that a system gives a partition of its disk.
struct DriveLetter {
  char letter = 'C';
  PartitionId partition = PartitionId::none;
};

/// A system on a volume.
struct SystemVolume {
  unsigned number = 0;  ///< of the partition
  PartitionId partition = PartitionId::none;
  Machine machine = Machine::unknown;
  bool legacy_loader = false;  ///< it can be started the legacy way, by what it holds
  bool uefi_loader = false;
  std::vector<DriveLetter> letters{};  ///< empty as well where they can't be read
};

/// Boot files on a volume.
struct BootFiles {
  unsigned number = 0;
  PartitionId partition = PartitionId::none;
  BootWay way = BootWay::legacy;
  /// Firmware finds them: a boot sector that loads them, on the active partition of an MBR disk; an
  /// EFI system partition, of either table.
  bool in_force = false;
  bool store = false;       ///< there is a boot store beside them
  std::string description;  ///< what the store calls the system that it starts
  unsigned system = 0;      ///< the partition of this disk that the store names; 0: none
  std::string fault;        ///< why the store can't be read; empty when it can
  /// The missing link on the way from firmware by these files to a system; empty: nothing that can
  /// be seen. Whether firmware looks here at all is `in_force`.
  std::string missing;
};

struct Systems {
  std::vector<SystemVolume> systems;
  std::vector<BootFiles> boot_files;

  [[nodiscard]] bool nothing() const { return systems.empty() && boot_files.empty(); }
  /// How the disk starts now: by boot files in force that lead to a system on it.
  [[nodiscard]] std::optional<BootWay> boots_by() const;
};

}  // namespace nuvrat

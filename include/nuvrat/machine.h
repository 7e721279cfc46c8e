#pragma once
// The disks of this machine, as its system names them: to find the right one before anything is
// done to it.

#include <optional>
#include <string>
#include <vector>

#include <nuvrat/layout.h>

namespace NUVRAT_API nuvrat {

struct MachineDisk {
  std::string path;                        ///< "/dev/sdb": what open_device takes
  std::uint64_t bytes = 0;                 ///< 0: a drive without a medium
  std::uint32_t sector_size = 512;         ///< in bytes
  std::uint32_t physical_sector_size = 0;  ///< in bytes; 0: the system doesn't say
  std::string model;                       ///< may be empty, as all that follows
  std::string serial;
  std::string bus;    ///< "USB", "SATA", "NVMe", "SD", "virtual", "image", "layer"
  std::string image;  ///< of a loop device: the file behind it
  bool removable = false;
  bool read_only = false;
  std::vector<std::string> uses;   ///< "sdb1 is mounted at /media/a", "sdb is part of md0"
  std::optional<TableKind> table;  ///< none: it couldn't be read
  std::string tag;                 ///< empty where there is no table's
  std::string fault;               ///< why it couldn't be read
};

/// Every whole disk that the system knows, in the order of their names; loop devices with a file,
/// drives without a medium, and layers (encryption, arrays) too. Of each the first sectors are
/// read. Nothing is written. Where a disk can't be opened (for want of rights, say), that is in its
/// `fault`.
[[nodiscard]] std::vector<MachineDisk> machine_disks();

}  // namespace nuvrat

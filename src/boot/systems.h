#pragma once
// Systems and boot files on the volumes of a disk.

#include <nuvrat/systems.h>
#include <nuvrat/table.h>
#include <nuvrat/volume.h>

namespace nuvrat::volume {
class PathReader;
}

namespace nuvrat::boot {

/// Paths, from a volume's root, of a disk's structures that start a system.
namespace paths {
inline constexpr const char* loader_legacy = "Windows/System32/winload.exe";
inline constexpr const char* loader_uefi = "Windows/System32/winload.efi";
inline constexpr const char* hive = "Windows/System32/config/SYSTEM";
inline constexpr const char* recovery = "Windows/System32/Recovery/ReAgent.xml";
inline constexpr const char* store_template = "Windows/System32/config/BCD-Template";
inline constexpr const char* source_legacy = "Windows/Boot/PCAT";
inline constexpr const char* source_uefi = "Windows/Boot/EFI";
inline constexpr const char* source_fonts = "Windows/Boot/Fonts";
inline constexpr const char* source_resources = "Windows/Boot/Resources";
inline constexpr const char* manager_legacy = "bootmgr";
inline constexpr const char* manager_uefi = "bootmgfw.efi";
inline constexpr const char* folder_legacy = "Boot";
inline constexpr const char* folder_uefi = "EFI/Microsoft/Boot";
inline constexpr const char* store_legacy = "Boot/BCD";
inline constexpr const char* store_uefi = "EFI/Microsoft/Boot/BCD";
inline constexpr const char* sleep = "hiberfil.sys";
/// "EFI/BOOT/BOOTX64.EFI"; empty for a machine that isn't known.
[[nodiscard]] std::string removable(Machine machine);
}  // namespace paths

inline constexpr std::uint64_t max_store_bytes = 16u << 20;
inline constexpr std::uint64_t max_hive_bytes = 512u << 20;

/// Looks at the volumes of these partitions of the table. Whatever is damaged counts as not there.
/// FAT is looked into only where firmware would look: it must be read whole for that.
[[nodiscard]] Systems find_systems(const Device& device, const TableReading& table,
                                   const std::vector<Partition>& partitions,
                                   const ReadOptions& options);

/// The machine that a program (PE) is for.
[[nodiscard]] Machine machine_of(ByteView program);
/// Whether the code in a volume's boot sector names the file that it loads. False: zeros, or code
/// that only says something.
[[nodiscard]] bool loads_manager(const Device& volume);

/// The store's contents, and those of the logs beside it. Throws Error.
struct HiveFile {
  Bytes file;
  std::vector<Bytes> logs;
};
[[nodiscard]] HiveFile read_hive(volume::PathReader& paths, const std::string& path,
                                 std::uint64_t most);

}  // namespace nuvrat::boot

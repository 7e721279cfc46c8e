#pragma once
// The registry hives of the station's own computer.

#include "hive_writer.h"

namespace orrelune {

/// What its boot store names, and what has letters.
inline constexpr std::uint32_t system_disk_signature = 0x0DE50F11;
inline constexpr std::uint32_t other_disk_signature = 0x0BADCAFE;

/// The 88 bytes that name a partition of an MBR disk.
[[nodiscard]] nuvrat::Bytes mbr_device(std::uint32_t signature, std::uint64_t offset);
/// A longer element around such a name: a disk in memory, read from a file there.
[[nodiscard]] nuvrat::Bytes memory_disk(std::uint32_t signature, std::uint64_t offset);
/// `second_offset`: of another system on this disk; `repair_offset`: of what a repair is read from;
/// 0: there is none.
[[nodiscard]] HiveKey boot_store(std::uint64_t boot_offset, std::uint64_t system_offset,
                                 std::uint64_t second_offset = 0, std::uint64_t repair_offset = 0);
/// Of up to four partitions; the second has the letter C, the third R, the fourth T.
[[nodiscard]] HiveKey system_hive(const std::vector<std::uint64_t>& offsets);

/// What a store of this system begins with.
[[nodiscard]] HiveKey store_template();

}  // namespace orrelune

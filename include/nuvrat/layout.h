#pragma once
// A partition table in no format: the neutral model between readers,
// planners and writers. No bytes of any format are in it.

#include <cstdint>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include <nuvrat/guid.h>
#include <nuvrat/sectors.h>
#include <nuvrat/volume_kind.h>

namespace NUVRAT_API nuvrat {

enum class TableKind { none, mbr, gpt };
enum class Role { primary, extended, logical, gpt };

[[nodiscard]] const char* name_of(TableKind kind);
[[nodiscard]] const char* name_of(Role role);
/// A type byte of an MBR or a type GUID of a GPT.
using PartitionType = std::variant<std::uint8_t, Guid>;

/// Says which partition one is, wherever it begins and whatever its number: given when a table is
/// read, in disk order from 1, and kept by all that is planned from it; new ones get others. No
/// table holds it: of a disk that is read again it says nothing.
enum class PartitionId : std::uint32_t {
  none = 0,  ///< an extended partition, and the volume of a disk without a table
};

struct Partition {
  PartitionId id = PartitionId::none;
  unsigned number =
      0;  ///< as the operating system counts: 1 to 4, logicals from 5; GPT entries from 1
  Role role = Role::primary;
  std::uint64_t start = 0;    ///< absolute LBA
  std::uint64_t sectors = 0;  ///< length in sectors
  PartitionType type = std::uint8_t{0};
  std::string name;              ///< GPT: UTF-8; empty in an MBR
  Guid unique_id;                ///< GPT only
  std::uint64_t attributes = 0;  ///< GPT only: UEFI specification, table of entry attributes
  bool active = false;           ///< MBR: status 80; GPT: the legacy-bootable attribute
  std::optional<std::uint64_t> table_sector;  ///< logical: absolute LBA of the EBR that names it

  [[nodiscard]] SectorRange range() const { return {start, sectors}; }
  /// Tables say the same of both; ids aren't compared.
  bool operator==(const Partition& other) const;
};

struct Layout {
  TableKind kind = TableKind::none;
  std::uint32_t sector_size = 512;
  std::uint64_t disk_sectors = 0;
  std::uint32_t disk_signature = 0;   ///< MBR, offset 440
  Guid disk_guid;                     ///< GPT
  std::uint64_t first_usable = 0;     ///< GPT
  std::uint64_t last_usable = 0;      ///< GPT, inclusive
  std::vector<Partition> partitions;  ///< by start; an extended partition before its logicals

  /// Null when there is none with that number.
  [[nodiscard]] const Partition* find(unsigned number) const;
  [[nodiscard]] Partition* find(unsigned number);
  /// Null when there is none with that id, and for none.
  [[nodiscard]] const Partition* find(PartitionId id) const;
  /// The partition that can hold data and begins there; null when none does.
  [[nodiscard]] const Partition* at(std::uint64_t start) const;
  /// The extended partition, or null.
  [[nodiscard]] const Partition* extended() const;
  /// All that can hold data: every one but the extended partition.
  [[nodiscard]] std::vector<Partition> data_partitions() const;
  /// Puts the partitions in disk order.
  void sort();
  /// Gives those that can hold data their ids, in the order in which they are.
  void give_ids();
  /// Of a GPT: the sectors for partitions, as far as one of 128 entries leaves them free.
  [[nodiscard]] SectorRange usable() const;
  /// "8E1F00A7" or a GUID.
  [[nodiscard]] std::string id_text() const;
  bool operator==(const Layout&) const = default;
};

// GPT entry attributes (UEFI specification, section 5.3.3; bits 60 to 63 as the basic data type
// defines them).
inline constexpr std::uint64_t gpt_required = 1u;
inline constexpr std::uint64_t gpt_legacy_bootable = 1u << 2;
inline constexpr std::uint64_t gpt_read_only = 1ull << 60;
inline constexpr std::uint64_t gpt_hidden = 1ull << 62;
inline constexpr std::uint64_t gpt_no_letter = 1ull << 63;

/// Sectors that the entry array takes at least: 16 KiB.
[[nodiscard]] std::uint64_t gpt_array_sectors(std::uint32_t sector_size);
/// The first usable LBA after a customary GPT: 34 at 512 bytes, 6 at 4096.
[[nodiscard]] std::uint64_t gpt_first_usable(std::uint32_t sector_size);
/// One past the last usable LBA in front of a customary backup GPT; 0 on a disk too small for it.
[[nodiscard]] std::uint64_t gpt_usable_end(std::uint64_t disk_sectors, std::uint32_t sector_size);

/// "p3", or "volume" for 0: the one volume of a disk without a table.
[[nodiscard]] std::string part_name(unsigned number);

}  // namespace nuvrat

#pragma once
// The types of partitions in both worlds, and the way from one to the other.

#include <cstdint>
#include <optional>
#include <string>

#include <nuvrat/layout.h>
#include <nuvrat/random.h>

namespace NUVRAT_API nuvrat {

/// Types with a meaning of their own for a rewrite.
enum class TypeClass {
  data,        ///< a file system, of whatever kind
  extended,    ///< 05, 0F, 85
  protective,  ///< EE
  efi_system,
  reserved,   ///< holds no files and has no counterpart in an MBR
  bios_boot,  ///< boot loader code for BIOS machines in the GPT world
  managed,    ///< a layer of its own keeps a database of where its parts lie
  unknown,
};

[[nodiscard]] TypeClass class_of(const PartitionType& type);
[[nodiscard]] inline bool is_extended_type(std::uint8_t type) {
  return type == 0x05 || type == 0x0F || type == 0x85;
}
/// "FAT32 (LBA)", "basic data", "type AB" …
[[nodiscard]] std::string describe(const PartitionType& type);
/// "0C" or the GUID.
[[nodiscard]] std::string type_text(const PartitionType& type);

/// The GPT side of an MBR type.
struct GptType {
  Guid guid;
  std::uint64_t attributes = 0;  ///< a hidden variant (1x) becomes an attribute
  bool carried = false;          ///< the table knows no counterpart: a GUID that holds the byte
};
/// `volume` decides where the byte is ambiguous (82 is swap only where there is swap).
[[nodiscard]] GptType gpt_type_for(std::uint8_t mbr_type, VolumeKind volume);

/// The MBR side of a GPT partition, by what its volume is. `remembered` of a unique id that
/// remember_type made wins where it still fits.
struct MbrType {
  std::uint8_t byte = 0;
  bool guessed = false;  ///< the table knows no counterpart: DA, "no file system"
};
[[nodiscard]] MbrType mbr_type_for(const Partition& gpt_entry, VolumeKind volume);

/// Whether a type can stand for what the volume is; kinds that Nuvrat doesn't know match
/// everything.
[[nodiscard]] bool type_matches(const Partition& partition, VolumeKind volume);
/// The type, of the same kind of table, that goes with the volume.
[[nodiscard]] PartitionType matching_type(const Partition& partition, VolumeKind volume);

/// A unique id (version 8) that remembers the MBR type a partition had, for the way back.
[[nodiscard]] Guid remember_type(std::uint8_t mbr_type, Random& random);
[[nodiscard]] std::optional<std::uint8_t> remembered_type(const Guid& unique_id);

/// The GUID of basic data, where FAT, NTFS and exFAT volumes live.
[[nodiscard]] const Guid& basic_data_guid();
[[nodiscard]] const Guid& efi_system_guid();
/// Of a system's own repair.
[[nodiscard]] bool is_recovery(const PartitionType& type);

}  // namespace nuvrat

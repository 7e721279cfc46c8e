#include <algorithm>
#include <array>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>

namespace nuvrat {
namespace {

struct MbrRow {
  std::uint8_t byte;
  const char* text;
  const char* guid;  // what a GPT calls it; null: no counterpart
  TypeClass kind;
};

constexpr const char* basic_data = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7";
constexpr const char* efi_system = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B";
constexpr const char* recovery = "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC";
constexpr const char* linux_data = "0FC63DAF-8483-4772-8E79-3D69D8477DE4";
constexpr const char* linux_swap = "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F";
constexpr const char* linux_lvm = "E6D6D379-F507-44C2-A23C-238F2A3DF928";
constexpr const char* linux_raid = "A19D880F-05FC-4D3B-A006-743F0F84911E";

constexpr std::array mbr_rows = {
    MbrRow{0x01, "FAT12", basic_data, TypeClass::data},
    MbrRow{0x04, "FAT16, small", basic_data, TypeClass::data},
    MbrRow{0x05, "extended", nullptr, TypeClass::extended},
    MbrRow{0x06, "FAT16", basic_data, TypeClass::data},
    MbrRow{0x07, "NTFS or exFAT", basic_data, TypeClass::data},
    MbrRow{0x0B, "FAT32", basic_data, TypeClass::data},
    MbrRow{0x0C, "FAT32 (LBA)", basic_data, TypeClass::data},
    MbrRow{0x0E, "FAT16 (LBA)", basic_data, TypeClass::data},
    MbrRow{0x0F, "extended (LBA)", nullptr, TypeClass::extended},
    MbrRow{0x27, "recovery", recovery, TypeClass::data},
    MbrRow{0x42, "dynamic disk", nullptr, TypeClass::managed},
    MbrRow{0x82, "Linux swap", linux_swap, TypeClass::data},
    MbrRow{0x83, "Linux", linux_data, TypeClass::data},
    MbrRow{0x85, "extended (Linux)", nullptr, TypeClass::extended},
    MbrRow{0x8E, "Linux LVM", linux_lvm, TypeClass::data},
    MbrRow{0xEE, "GPT protective", nullptr, TypeClass::protective},
    MbrRow{0xEF, "EFI system", efi_system, TypeClass::efi_system},
    MbrRow{0xFD, "Linux RAID", linux_raid, TypeClass::data},
};

struct GptRow {
  const char* guid;
  const char* text;
  TypeClass kind;
};

constexpr std::array gpt_rows = {
    GptRow{basic_data, "basic data", TypeClass::data},
    GptRow{efi_system, "EFI system", TypeClass::efi_system},
    GptRow{"E3C9E316-0B5C-4DB8-817D-F92DF00215AE", "reserved", TypeClass::reserved},
    GptRow{recovery, "recovery", TypeClass::data},
    GptRow{"21686148-6449-6E6F-744E-656564454649", "BIOS boot", TypeClass::bios_boot},
    GptRow{linux_data, "Linux", TypeClass::data},
    GptRow{linux_swap, "Linux swap", TypeClass::data},
    GptRow{linux_lvm, "Linux LVM", TypeClass::data},
    GptRow{linux_raid, "Linux RAID", TypeClass::data},
    GptRow{"5808C8AA-7E8F-42E0-85D2-E1E90434CFB3", "dynamic disk database", TypeClass::managed},
    GptRow{"AF9B60A0-1431-4F62-BC68-3311714A69AD", "dynamic disk", TypeClass::managed},
    GptRow{"E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D", "storage pool", TypeClass::managed},
};

// A GUID (version 8, "custom") that says: MBR type byte, given last, has no counterpart.
constexpr const char* carrier = "6E757672-6174-8D62-8000-000000000000";

const MbrRow* find_row(std::uint8_t byte) {
  const auto it = std::find_if(mbr_rows.begin(), mbr_rows.end(),
                               [byte](const MbrRow& row) { return row.byte == byte; });
  return it == mbr_rows.end() ? nullptr : &*it;
}

// 11, 14, 16, 17, 1B, 1C and 1E are the hidden variants of what the low digit says.
bool is_hidden_variant(std::uint8_t byte) {
  if ((byte & 0xF0) != 0x10) return false;
  const MbrRow* open = find_row(byte & 0x0F);
  return open != nullptr && open->kind == TypeClass::data;
}

const GptRow* find_row(const Guid& guid) {
  const auto it = std::find_if(gpt_rows.begin(), gpt_rows.end(),
                               [&guid](const GptRow& row) { return Guid(row.guid) == guid; });
  return it == gpt_rows.end() ? nullptr : &*it;
}

}  // namespace

TypeClass class_of(const PartitionType& type) {
  if (const auto* byte = std::get_if<std::uint8_t>(&type)) {
    if (is_hidden_variant(*byte)) return TypeClass::data;
    const MbrRow* row = find_row(*byte);
    return row == nullptr ? TypeClass::unknown : row->kind;
  }
  const GptRow* row = find_row(std::get<Guid>(type));
  return row == nullptr ? TypeClass::unknown : row->kind;
}

std::string describe(const PartitionType& type) {
  if (const auto* byte = std::get_if<std::uint8_t>(&type)) {
    if (is_hidden_variant(*byte)) return fmt::format("{}, hidden", find_row(*byte & 0x0F)->text);
    if (const MbrRow* row = find_row(*byte)) return row->text;
    return fmt::format("type {:02X}", *byte);
  }
  const auto& guid = std::get<Guid>(type);
  if (const GptRow* row = find_row(guid)) return row->text;
  auto bytes = guid.on_disk();
  const std::uint8_t carried = std::exchange(bytes[15], std::uint8_t{0});
  if (bytes == Guid(carrier).on_disk()) return fmt::format("type {:02X}, carried", carried);
  return "other";
}

std::string type_text(const PartitionType& type) {
  if (const auto* byte = std::get_if<std::uint8_t>(&type)) return fmt::format("{:02X}", *byte);
  return std::get<Guid>(type).text();
}

GptType gpt_type_for(std::uint8_t mbr_type, VolumeKind volume) {
  GptType out;
  std::uint8_t byte = mbr_type;
  if (is_hidden_variant(byte)) {
    byte = byte & 0x0F;
    out.attributes = gpt_hidden;
  }
  const bool not_swap = byte == 0x82 && volume != VolumeKind::swap;
  const MbrRow* row = find_row(byte);
  if (row != nullptr && row->guid != nullptr && !not_swap) {
    out.guid = Guid(row->guid);
    return out;
  }
  auto bytes = Guid(carrier).on_disk();
  bytes[15] = mbr_type;
  out.guid = Guid(std::span<const std::uint8_t, 16>(bytes));
  out.carried = true;
  return out;
}

Guid remember_type(std::uint8_t mbr_type, Random& random) {
  auto bytes = Guid::random(random).on_disk();
  bytes[7] = static_cast<std::uint8_t>((bytes[7] & 0x0F) | 0x80);  // version 8: the maker's own
  bytes[10] = 'n';
  bytes[11] = 'v';
  bytes[12] = mbr_type;
  return Guid(std::span<const std::uint8_t, 16>(bytes));
}

std::optional<std::uint8_t> remembered_type(const Guid& unique_id) {
  const auto& bytes = unique_id.on_disk();
  if ((bytes[7] & 0xF0) != 0x80 || bytes[10] != 'n' || bytes[11] != 'v') return std::nullopt;
  return bytes[12];
}

namespace {

// The byte that a volume goes by; none where what it is says nothing of a type.
std::optional<std::uint8_t> byte_for_volume(VolumeKind volume) {
  switch (volume) {
    case VolumeKind::fat12:
      return 0x01;
    case VolumeKind::fat16:
      return 0x0E;
    case VolumeKind::fat32:
      return 0x0C;
    case VolumeKind::ntfs:
    case VolumeKind::exfat:
      return 0x07;
    case VolumeKind::swap:
      return 0x82;
    case VolumeKind::linux_data:
      return 0x83;
    case VolumeKind::other:
    case VolumeKind::unknown:
      return std::nullopt;
  }
  return std::nullopt;
}

std::uint8_t as_hidden(std::uint8_t byte) {
  const auto hidden = static_cast<std::uint8_t>(byte | 0x10);
  return is_hidden_variant(hidden) ? hidden : byte;
}

}  // namespace

MbrType mbr_type_for(const Partition& p, VolumeKind volume) {
  const auto& guid = std::get<Guid>(p.type);
  const bool hidden = (p.attributes & gpt_hidden) != 0;
  if (const auto byte = remembered_type(p.unique_id)) {
    const GptType back = gpt_type_for(*byte, volume);
    if (back.guid == guid && (back.attributes & gpt_hidden) == (p.attributes & gpt_hidden))
      return {*byte, false};
  }
  if (guid == basic_data_guid()) {  // 07 comes back as basic data, whatever the volume is
    const std::uint8_t byte = byte_for_volume(volume).value_or(0x07);
    return {hidden ? as_hidden(byte) : byte, false};
  }
  for (const MbrRow& row : mbr_rows) {
    if (row.guid != nullptr && row.kind != TypeClass::extended && Guid(row.guid) == guid)
      return {row.byte, false};
  }
  auto bytes = guid.on_disk();
  const std::uint8_t carried = std::exchange(bytes[15], std::uint8_t{0});
  if (bytes == Guid(carrier).on_disk() && carried != 0) return {carried, false};
  return {byte_for_volume(volume).value_or(0xDA), true};
}

bool type_matches(const Partition& p, VolumeKind volume) {
  const bool dos = is_fat(volume) || volume == VolumeKind::ntfs || volume == VolumeKind::exfat;
  const bool other = volume == VolumeKind::linux_data || volume == VolumeKind::swap;
  if ((!dos && !other) || class_of(p.type) != TypeClass::data) return true;
  if (const auto* guid = std::get_if<Guid>(&p.type)) {
    const bool for_dos = *guid == basic_data_guid() || *guid == Guid(recovery);
    return for_dos == dos;
  }
  const std::uint8_t byte = std::get<std::uint8_t>(p.type) &
                            (is_hidden_variant(std::get<std::uint8_t>(p.type)) ? 0x0F : 0xFF);
  switch (byte) {
    case 0x01:
      return volume == VolumeKind::fat12;
    case 0x04:
    case 0x06:
    case 0x0E:
      return volume == VolumeKind::fat16 || volume == VolumeKind::fat12;
    case 0x0B:
    case 0x0C:
      return volume == VolumeKind::fat32;
    case 0x07:
      return volume == VolumeKind::ntfs || volume == VolumeKind::exfat;
    case 0x27:
      return dos;
    default:
      return other;
  }
}

PartitionType matching_type(const Partition& p, VolumeKind volume) {
  const auto byte = byte_for_volume(volume);
  if (type_matches(p, volume) || !byte) return p.type;
  if (const auto* now = std::get_if<std::uint8_t>(&p.type))
    return is_hidden_variant(*now) ? as_hidden(*byte) : *byte;
  return gpt_type_for(*byte, volume).guid;
}

const Guid& basic_data_guid() {
  static const Guid guid{basic_data};
  return guid;
}

bool is_recovery(const PartitionType& type) {
  constexpr std::uint8_t mbr_recovery = 0x27;
  const auto* byte = std::get_if<std::uint8_t>(&type);
  return byte != nullptr ? *byte == mbr_recovery : std::get<Guid>(type) == Guid(recovery);
}

const Guid& efi_system_guid() {
  static const Guid guid{efi_system};
  return guid;
}

}  // namespace nuvrat

#pragma once
// NTFS structures as they lie on the disk, with the names of the published NTFS documentation.

#include <array>
#include <cstddef>
#include <cstdint>

#include <boost/endian/buffers.hpp>

#include "base/record.h"

namespace nuvrat::ntfs {

namespace be = boost::endian;
using base::load;
using base::store;

struct Boot {
  std::array<std::uint8_t, 3> jump;  // EB 52 90
  std::array<char, 8> oem_id;        // "NTFS    "
  be::little_uint16_buf_t bytes_per_sector;
  std::uint8_t sectors_per_cluster;  // above 0x80: 2^(256 - value)
  be::little_uint16_buf_t reserved_sectors;
  std::uint8_t fats;
  be::little_uint16_buf_t root_entries;
  be::little_uint16_buf_t sectors16;
  std::uint8_t media;  // F8
  be::little_uint16_buf_t sectors_per_fat;
  be::little_uint16_buf_t sectors_per_track;
  be::little_uint16_buf_t heads;
  be::little_uint32_buf_t hidden_sectors;
  be::little_uint32_buf_t sectors32;
  be::little_uint32_buf_t drive;  // 80 00 80 00
  be::little_uint64_buf_t total_sectors;
  be::little_uint64_buf_t mft_lcn;
  be::little_uint64_buf_t mirror_lcn;
  std::int8_t clusters_per_record;  // negative: 2^-value bytes
  std::array<std::uint8_t, 3> pad0;
  std::int8_t clusters_per_index_block;
  std::array<std::uint8_t, 3> pad1;
  be::little_uint64_buf_t serial;
  be::little_uint32_buf_t checksum;
};
static_assert(offsetof(Boot, total_sectors) == 0x28);
static_assert(offsetof(Boot, clusters_per_record) == 0x40);
static_assert(sizeof(Boot) == 0x54);

/// What "FILE" records and "INDX" blocks begin with.
struct MultiSectorHeader {
  std::array<char, 4> signature;
  be::little_uint16_buf_t usa_offset;
  be::little_uint16_buf_t usa_count;  // one more than the strides of 512 bytes
};

struct FileRecord {
  MultiSectorHeader multi;
  be::little_uint64_buf_t lsn;
  be::little_uint16_buf_t sequence;
  be::little_uint16_buf_t links;
  be::little_uint16_buf_t first_attribute;
  be::little_uint16_buf_t flags;
  be::little_uint32_buf_t bytes_in_use;
  be::little_uint32_buf_t bytes_allocated;
  be::little_uint64_buf_t base;
  be::little_uint16_buf_t next_attribute_id;
  be::little_uint16_buf_t reserved;
  be::little_uint32_buf_t number;
};
static_assert(sizeof(FileRecord) == 0x30);

inline constexpr std::uint16_t record_in_use = 1;
inline constexpr std::uint16_t record_directory = 2;
inline constexpr std::uint16_t record_extend = 4;
inline constexpr std::uint16_t record_view_index = 8;

/// A record of some file, rather than a free one.
[[nodiscard]] inline bool is_in_use(ByteView record) {
  return (load<FileRecord>(record).flags.value() & record_in_use) != 0;
}

enum AttributeType : std::uint32_t {
  at_standard_information = 0x10,
  at_attribute_list = 0x20,
  at_file_name = 0x30,
  at_object_id = 0x40,
  at_security_descriptor = 0x50,
  at_volume_name = 0x60,
  at_volume_information = 0x70,
  at_data = 0x80,
  at_index_root = 0x90,
  at_index_allocation = 0xA0,
  at_bitmap = 0xB0,
  at_reparse_point = 0xC0,
  at_ea_information = 0xD0,
  at_ea = 0xE0,
  at_logged_utility_stream = 0x100,
  at_end = 0xFFFFFFFF,
};

inline constexpr std::uint16_t attribute_compressed = 0x0001;
inline constexpr std::uint16_t attribute_encrypted = 0x4000;
inline constexpr unsigned max_compression_unit = 8;  // a power of two of clusters; 4 is customary
inline constexpr std::uint16_t attribute_sparse = 0x8000;

struct AttributeHeader {
  be::little_uint32_buf_t type;
  be::little_uint32_buf_t length;
  std::uint8_t non_resident;
  std::uint8_t name_length;
  be::little_uint16_buf_t name_offset;
  be::little_uint16_buf_t flags;
  be::little_uint16_buf_t instance;
};
static_assert(sizeof(AttributeHeader) == 0x10);

struct ResidentHeader {
  be::little_uint32_buf_t value_length;
  be::little_uint16_buf_t value_offset;
  std::uint8_t indexed;
  std::uint8_t reserved;
};
static_assert(sizeof(ResidentHeader) == 8);

struct NonResidentHeader {
  be::little_uint64_buf_t lowest_vcn;
  be::little_uint64_buf_t highest_vcn;
  be::little_uint16_buf_t runs_offset;
  std::uint8_t compression_unit;  // as a power of two of clusters; 0: not compressed
  std::array<std::uint8_t, 5> reserved;
  be::little_uint64_buf_t allocated_size;
  be::little_uint64_buf_t data_size;
  be::little_uint64_buf_t initialised_size;
};
static_assert(sizeof(NonResidentHeader) == 0x30);

struct StandardInformation {
  be::little_int64_buf_t created, modified, changed, accessed;
  be::little_uint32_buf_t attributes;
  be::little_uint32_buf_t maximum_versions, version, class_id, owner_id;
  be::little_uint32_buf_t security_id;
  be::little_uint64_buf_t quota_charged;
  be::little_uint64_buf_t update_sequence;
};
static_assert(sizeof(StandardInformation) == 72);

struct FileNameHead {
  be::little_uint64_buf_t parent;
  be::little_int64_buf_t created, modified, changed, accessed;
  be::little_uint64_buf_t allocated_size, data_size;
  be::little_uint32_buf_t attributes;
  be::little_uint32_buf_t reparse_tag;
  std::uint8_t name_length;
  std::uint8_t name_space;
};
static_assert(sizeof(FileNameHead) == 66);

inline constexpr std::uint8_t name_posix = 0;
inline constexpr std::uint8_t name_win32 = 1;
inline constexpr std::uint8_t name_dos = 2;
inline constexpr std::uint8_t name_both = 3;
inline constexpr std::uint32_t file_name_directory = 0x10000000;
inline constexpr std::uint32_t file_name_view_index = 0x20000000;
inline constexpr std::uint32_t attr_sparse_file = 0x200;
inline constexpr std::uint32_t attr_reparse_point = 0x400;
inline constexpr std::uint32_t attr_compressed_file = 0x800;
inline constexpr std::uint32_t attr_encrypted_file = 0x4000;

struct AttributeListEntry {
  be::little_uint32_buf_t type;
  be::little_uint16_buf_t length;
  std::uint8_t name_length;
  std::uint8_t name_offset;
  be::little_uint64_buf_t lowest_vcn;
  be::little_uint64_buf_t reference;
  be::little_uint16_buf_t instance;
};
static_assert(sizeof(AttributeListEntry) == 0x1A);

struct IndexRoot {
  be::little_uint32_buf_t type;
  be::little_uint32_buf_t collation;
  be::little_uint32_buf_t block_size;
  std::uint8_t clusters_per_block;  // or units of 512 bytes where the cluster is larger
  std::array<std::uint8_t, 3> reserved;
};
static_assert(sizeof(IndexRoot) == 16);

struct IndexHeader {
  be::little_uint32_buf_t first_entry;  // counted from this header, as are the next two
  be::little_uint32_buf_t used;
  be::little_uint32_buf_t allocated;
  be::little_uint32_buf_t flags;  // 1: has sub-nodes
};
static_assert(sizeof(IndexHeader) == 16);

struct IndexBlock {
  MultiSectorHeader multi;
  be::little_uint64_buf_t lsn;
  be::little_uint64_buf_t vcn;
  IndexHeader header;
};
static_assert(offsetof(IndexBlock, header) == 0x18);

struct IndexEntry {
  be::little_uint64_buf_t reference;  // view indexes: offset and length of the data
  be::little_uint16_buf_t length;
  be::little_uint16_buf_t key_length;
  be::little_uint16_buf_t flags;
  be::little_uint16_buf_t reserved;
};
static_assert(sizeof(IndexEntry) == 16);

inline constexpr std::uint16_t entry_has_child = 1;
inline constexpr std::uint16_t entry_last = 2;

inline constexpr std::uint32_t collate_file_name = 0x01;
inline constexpr std::uint32_t collate_ulong = 0x10;
inline constexpr std::uint32_t collate_sid = 0x11;
inline constexpr std::uint32_t collate_security_hash = 0x12;
inline constexpr std::uint32_t collate_ulongs = 0x13;

struct SecurityEntry {
  be::little_uint32_buf_t hash;
  be::little_uint32_buf_t id;
  be::little_uint64_buf_t offset;
  be::little_uint32_buf_t length;
};
static_assert(sizeof(SecurityEntry) == 20);

inline constexpr std::size_t stride = 512;  // between the update sequence's places, always
inline constexpr std::uint64_t index_block_bytes = 4096;
inline constexpr std::uint64_t security_mirror = 0x40000;

/// Records with fixed numbers.
enum SystemRecord : std::uint32_t {
  record_mft = 0,
  record_mirror = 1,
  record_log = 2,
  record_volume_info = 3,
  record_attr_def = 4,
  record_root = 5,
  record_bitmap = 6,
  record_boot = 7,
  record_bad = 8,
  record_secure = 9,
  record_upcase = 10,
  record_extend_folder = 11,
  first_user_record = 24,
};

/// Records, attributes and entries of indices begin at multiples of 8 bytes.
[[nodiscard]] inline std::size_t align8(std::size_t n) {
  return (n + 7) / 8 * 8;
}

/// Record number and sequence number as one.
[[nodiscard]] inline std::uint64_t file_reference(std::uint64_t number, std::uint16_t sequence) {
  return number | static_cast<std::uint64_t>(sequence) << 48;
}
/// Records that a reader needs before it knows attribute lists, and so never have one. ($MFT's own
/// has, where its runlist is long.)
[[nodiscard]] constexpr bool is_read_early(std::uint64_t number) {
  switch (number) {
    case record_mirror:
    case record_log:
    case record_volume_info:
    case record_attr_def:
    case record_bitmap:
    case record_boot:
    case record_upcase:
      return true;
    default:
      return false;
  }
}

[[nodiscard]] inline std::uint64_t record_of(std::uint64_t reference) {
  return reference & 0xFFFFFFFFFFFF;
}
[[nodiscard]] inline std::uint16_t sequence_of(std::uint64_t reference) {
  return static_cast<std::uint16_t>(reference >> 48);
}

}  // namespace nuvrat::ntfs

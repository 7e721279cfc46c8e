#pragma once
// MBR, EBR and GPT as they lie on the disk. Field names follow the UEFI specification, sections 5.2
// and 5.3.

#include <array>
#include <cstddef>
#include <cstdint>

#include <boost/endian/buffers.hpp>

namespace nuvrat::table {

namespace be = boost::endian;

struct MbrEntry {
  std::uint8_t boot_indicator;
  std::array<std::uint8_t, 3> starting_chs;
  std::uint8_t os_type;
  std::array<std::uint8_t, 3> ending_chs;
  be::little_uint32_buf_t starting_lba;
  be::little_uint32_buf_t size_in_lba;

  [[nodiscard]] std::uint64_t start() const { return starting_lba.value(); }
  [[nodiscard]] std::uint64_t sectors() const { return size_in_lba.value(); }
};
static_assert(sizeof(MbrEntry) == 16);

struct MbrSector {
  std::array<std::uint8_t, 440> boot_code;
  be::little_uint32_buf_t unique_mbr_signature;
  be::little_uint16_buf_t unknown;
  std::array<MbrEntry, 4> partition_record;
  be::little_uint16_buf_t signature;
};
static_assert(sizeof(MbrSector) == 512);
static_assert(offsetof(MbrSector, partition_record) == 446);
static_assert(offsetof(MbrSector, signature) == 510);

inline constexpr std::uint16_t mbr_signature = 0xAA55;
inline constexpr std::uint16_t settle_mark = 0x766E;  // "nv"

struct GptHeader {
  std::array<char, 8> signature;
  be::little_uint32_buf_t revision;
  be::little_uint32_buf_t header_size;
  be::little_uint32_buf_t header_crc32;
  be::little_uint32_buf_t reserved;
  be::little_uint64_buf_t my_lba;
  be::little_uint64_buf_t alternate_lba;
  be::little_uint64_buf_t first_usable_lba;
  be::little_uint64_buf_t last_usable_lba;
  std::array<std::uint8_t, 16> disk_guid;
  be::little_uint64_buf_t partition_entry_lba;
  be::little_uint32_buf_t number_of_partition_entries;
  be::little_uint32_buf_t size_of_partition_entry;
  be::little_uint32_buf_t partition_entry_array_crc32;
};
static_assert(sizeof(GptHeader) == 92);
static_assert(offsetof(GptHeader, partition_entry_lba) == 72);

inline constexpr std::array<char, 8> gpt_signature = {'E', 'F', 'I', ' ', 'P', 'A', 'R', 'T'};

struct GptEntry {
  std::array<std::uint8_t, 16> partition_type_guid;
  std::array<std::uint8_t, 16> unique_partition_guid;
  be::little_uint64_buf_t starting_lba;
  be::little_uint64_buf_t ending_lba;  // inclusive
  be::little_uint64_buf_t attributes;
  std::array<be::little_uint16_buf_t, 36> partition_name;
};
static_assert(sizeof(GptEntry) == 128);
static_assert(offsetof(GptEntry, partition_name) == 56);

}  // namespace nuvrat::table

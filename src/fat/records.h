#pragma once
// FAT structures as they lie on the disk. Field names follow the Microsoft FAT specification.

#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include <boost/endian/buffers.hpp>

#include "base/record.h"

namespace nuvrat::fat {

namespace be = boost::endian;
using base::load;
using base::store;

struct Boot {
  std::array<std::uint8_t, 3> BS_jmpBoot;
  std::array<char, 8> BS_OEMName;
  be::little_uint16_buf_t BPB_BytsPerSec;
  std::uint8_t BPB_SecPerClus;
  be::little_uint16_buf_t BPB_RsvdSecCnt;
  std::uint8_t BPB_NumFATs;
  be::little_uint16_buf_t BPB_RootEntCnt;
  be::little_uint16_buf_t BPB_TotSec16;
  std::uint8_t BPB_Media;
  be::little_uint16_buf_t BPB_FATSz16;
  be::little_uint16_buf_t BPB_SecPerTrk;
  be::little_uint16_buf_t BPB_NumHeads;
  be::little_uint32_buf_t BPB_HiddSec;
  be::little_uint32_buf_t BPB_TotSec32;
};
static_assert(sizeof(Boot) == 36);

/// What follows at offset 36 on FAT12 and FAT16, at offset 64 on FAT32.
struct BootTail {
  std::uint8_t BS_DrvNum;
  std::uint8_t BS_Reserved1;  // bit 0: not closed; bit 1: errors seen
  std::uint8_t BS_BootSig;
  be::little_uint32_buf_t BS_VolID;
  std::array<std::uint8_t, 11> BS_VolLab;
  std::array<char, 8> BS_FilSysType;
};
static_assert(sizeof(BootTail) == 26);

/// At offset 36 on FAT32.
struct Boot32 {
  be::little_uint32_buf_t BPB_FATSz32;
  be::little_uint16_buf_t BPB_ExtFlags;
  be::little_uint16_buf_t BPB_FSVer;
  be::little_uint32_buf_t BPB_RootClus;
  be::little_uint16_buf_t BPB_FSInfo;
  be::little_uint16_buf_t BPB_BkBootSec;
  std::array<std::uint8_t, 12> BPB_Reserved;
  BootTail tail;
};
static_assert(sizeof(Boot32) == 54);
static_assert(offsetof(Boot32, tail) == 28);

struct FsInfo {
  be::little_uint32_buf_t FSI_LeadSig;
  std::array<std::uint8_t, 480> FSI_Reserved1;
  be::little_uint32_buf_t FSI_StrucSig;
  be::little_uint32_buf_t FSI_Free_Count;
  be::little_uint32_buf_t FSI_Nxt_Free;
  std::array<std::uint8_t, 12> FSI_Reserved2;
  be::little_uint32_buf_t FSI_TrailSig;
};
static_assert(sizeof(FsInfo) == 512);

struct DirEntry {
  std::array<std::uint8_t, 11> DIR_Name;
  std::uint8_t DIR_Attr;
  std::uint8_t DIR_NTRes;
  std::uint8_t DIR_CrtTimeTenth;
  be::little_uint16_buf_t DIR_CrtTime;
  be::little_uint16_buf_t DIR_CrtDate;
  be::little_uint16_buf_t DIR_LstAccDate;
  be::little_uint16_buf_t DIR_FstClusHI;
  be::little_uint16_buf_t DIR_WrtTime;
  be::little_uint16_buf_t DIR_WrtDate;
  be::little_uint16_buf_t DIR_FstClusLO;
  be::little_uint32_buf_t DIR_FileSize;

  [[nodiscard]] std::uint32_t cluster() const {
    return static_cast<std::uint32_t>(DIR_FstClusHI.value()) << 16 | DIR_FstClusLO.value();
  }
};
static_assert(sizeof(DirEntry) == 32);

/// Of a name of eleven characters, made on the first day that FAT knows.
[[nodiscard]] inline DirEntry new_entry(std::string_view name, std::uint8_t attributes,
                                        std::uint32_t cluster, std::uint32_t size) {
  DirEntry out{};
  out.DIR_Name.fill(' ');
  std::copy(name.begin(), name.end(), out.DIR_Name.begin());
  out.DIR_Attr = attributes;
  out.DIR_FstClusHI = static_cast<std::uint16_t>(cluster >> 16);
  out.DIR_FstClusLO = static_cast<std::uint16_t>(cluster);
  out.DIR_FileSize = size;
  out.DIR_WrtDate = std::uint16_t{0x0021};
  return out;
}
/// It says that it is so long; without a byte it has no cluster.
inline void set_size(DirEntry& entry, std::uint32_t size) {
  entry.DIR_FileSize = size;
  if (size > 0) return;
  entry.DIR_FstClusHI = std::uint16_t{0};
  entry.DIR_FstClusLO = std::uint16_t{0};
}
/// Of an entry's first byte: nothing is in it, as in all that follow it.
inline constexpr std::uint8_t entry_end = 0;
/// The same: it was deleted.
inline constexpr std::uint8_t entry_deleted = 0xE5;

struct LongEntry {
  std::uint8_t LDIR_Ord;
  std::array<be::little_uint16_buf_t, 5> LDIR_Name1;
  std::uint8_t LDIR_Attr;
  std::uint8_t LDIR_Type;
  std::uint8_t LDIR_Chksum;
  std::array<be::little_uint16_buf_t, 6> LDIR_Name2;
  be::little_uint16_buf_t LDIR_FstClusLO;
  std::array<be::little_uint16_buf_t, 2> LDIR_Name3;
};
static_assert(sizeof(LongEntry) == 32);

inline constexpr std::uint8_t attr_label = 0x08;
inline constexpr std::uint8_t attr_directory = 0x10;
inline constexpr std::uint8_t attr_long = 0x0F;
inline constexpr std::size_t max_directory_bytes = 65536 * sizeof(DirEntry);

}  // namespace nuvrat::fat

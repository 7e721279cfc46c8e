#pragma once
// FAT volumes laid out by other hands than Nuvrat's, byte by byte from the format's description, in
// shapes that formatters, cameras and recorders choose.

#include <map>
#include <memory>
#include <string>

#include <nuvrat/nuvrat.h>

namespace foreign {

struct FatShape {
  std::string name;
  unsigned width = 32;  ///< bits of a FAT's entry
  std::uint32_t clusters = 70000;
  std::uint32_t cluster_sectors = 1, sector_bytes = 512;
  std::uint32_t reserved = 32, fats = 2, root_entries = 0;
  std::uint32_t root_cluster = 2;
  std::uint32_t fs_info = 1, boot_copy = 6;  ///< sectors; 0: none
  std::uint32_t surplus = 0;                 ///< sectors of each FAT beyond what it needs
  std::uint32_t tail = 0;                    ///< sectors after the last cluster
  std::uint32_t active = 0;                  ///< from 1: the only FAT in use, the others are stale
  std::uint32_t high_bits = 0;               ///< of FAT32 entries, which are nobody's
  std::uint8_t media = 0xF8;
  bool label_in_root = true;
  std::uint32_t hidden_off = 0;  ///< by how much its hidden sectors are wrong
};
[[nodiscard]] const std::vector<FatShape>& fat_shapes();

struct FatVolume {
  std::unique_ptr<nuvrat::MemoryDevice> disk;  ///< an MBR with the volume as p1
  std::map<std::string, nuvrat::Bytes> files;  ///< contents by path
};
[[nodiscard]] FatVolume fat(const FatShape& shape, std::uint64_t start, std::uint64_t disk_sectors);

}  // namespace foreign

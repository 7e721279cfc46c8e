#pragma once
// MBRs and chains of EBRs laid out by other hands than Nuvrat's, entry by entry: orders, links,
// types and gaps that Nuvrat wouldn't choose.

#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace foreign {

struct MbrEntryShape {
  unsigned slot = 0;
  std::uint8_t type = 0x06;
  std::uint64_t start = 0, sectors = 0;  ///< as the entry says: in an EBR relative
  std::uint8_t status = 0;
};
struct EbrShape {
  std::uint64_t lba = 0;
  std::vector<MbrEntryShape> entries;
};
struct MbrShape {
  std::string name;
  std::uint32_t sector_bytes = 512;
  std::vector<MbrEntryShape> entries;
  std::vector<EbrShape> chain;
  std::uint32_t signature = 0x0B0E0001;
  bool code = false;      ///< in sector 0 and in every EBR, and what it loads after sector 0
  bool true_chs = false;  ///< of 16 heads and 63 sectors; otherwise all zeros
};
[[nodiscard]] const std::vector<MbrShape>& mbr_shapes();

/// A FAT12 volume with files in every partition; 64000 sectors.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> mbr(const MbrShape& shape);

}  // namespace foreign

#pragma once
// GPTs laid out by other hands than Nuvrat's, byte by byte from the specification: where it leaves
// a choice, one that Nuvrat wouldn't make.

#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace foreign {

struct GptShape {
  std::string name;
  std::uint32_t sector_bytes = 512;
  std::uint32_t entries = 128, entry_bytes = 128, header_bytes = 92;
  std::uint64_t array = 2;         ///< where the first array of entries begins
  std::uint64_t before_back = 0;   ///< sectors between the second array and its header
  std::uint64_t first_usable = 0;  ///< 0: the least
  std::uint64_t unused_end = 0;    ///< usable sectors that it doesn't call so
  std::uint64_t grown = 0;         ///< sectors that the disk has beyond the second header
  std::vector<unsigned> slots = {0, 1, 2};
  bool protective_size_full = false;  ///< FFFFFFFF instead of the disk's size
  std::uint8_t protective_status = 0;
};
[[nodiscard]] const std::vector<GptShape>& gpt_shapes();

/// Three partitions with a FAT16 volume each, of 16 MiB, with gaps between them.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> gpt(const GptShape& shape);

}  // namespace foreign

#pragma once
// The customary geometry of 255 heads and 63 sectors, for the CHS fields that no system of today
// reads.

#include <array>
#include <cstdint>

namespace nuvrat::table {

inline std::array<std::uint8_t, 3> chs_of(std::uint64_t lba) {
  const std::uint64_t cylinder = lba / (255 * 63);
  if (cylinder > 1023) return {0xFE, 0xFF, 0xFF};
  const auto head = static_cast<std::uint8_t>(lba / 63 % 255);
  const auto sector = static_cast<std::uint8_t>(lba % 63 + 1);
  return {head, static_cast<std::uint8_t>(sector | (cylinder >> 2 & 0xC0)),
          static_cast<std::uint8_t>(cylinder & 0xFF)};
}

}  // namespace nuvrat::table

#include "disk_bytes.h"

#include <nuvrat/random.h>

namespace disk_bytes {

using namespace nuvrat;

std::uint64_t little(ByteView bytes, std::size_t at, unsigned width) {
  std::uint64_t out = 0;
  for (unsigned i = 0; i < width && at + i < bytes.size(); ++i)
    out |= std::uint64_t{bytes[at + i]} << 8 * i;
  return out;
}

void put(ByteSpan bytes, std::size_t at, std::uint64_t value, unsigned width) {
  for (unsigned i = 0; i < width && at + i < bytes.size(); ++i)
    bytes[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
}

void put_entry(ByteSpan sector, unsigned slot, std::uint8_t type, std::uint64_t start,
               std::uint64_t sectors, std::uint8_t status) {
  const std::size_t at = 446 + 16 * slot;
  put(sector, at, status, 1);
  put(sector, at + 4, type, 1);
  put(sector, at + 8, start, 4);
  put(sector, at + 12, sectors, 4);
  put(sector, 510, 0xAA55, 2);
}

Bytes noise(std::size_t size, std::uint64_t seed) {
  Bytes out(size);
  Random(seed).fill(out);
  return out;
}

ReadOptions utc() {
  ReadOptions out;
  out.zone = Zone();
  return out;
}

}  // namespace disk_bytes

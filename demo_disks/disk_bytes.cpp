#include "disk_bytes.h"

#include <algorithm>

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

void copy_data(const Device& from, Device& to, std::uint64_t first) {
  constexpr std::uint64_t piece = 2048;
  const std::uint64_t end = std::min(from.sectors(), to.sectors());
  for (std::uint64_t at = from.next_data(first); at < end; at = from.next_data(at)) {
    const Bytes bytes = from.read(at, std::min(piece, end - at));
    if (!all_zero(bytes)) to.write(at, bytes);
    at += piece;
  }
}

ReadOptions utc() {
  ReadOptions out;
  out.zone = Zone();
  return out;
}

}  // namespace disk_bytes

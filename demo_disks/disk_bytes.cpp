#include "disk_bytes.h"

#include <algorithm>

#include <nuvrat/partition_type.h>
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

namespace {

nuvrat::Partition& add_numbered(nuvrat::Layout& layout, nuvrat::Role role,
                                nuvrat::SectorRange place) {
  nuvrat::Partition p;
  p.number = role == nuvrat::Role::logical ? 5 : 1;
  while (layout.find(p.number) != nullptr) ++p.number;
  p.role = role;
  p.start = place.first;
  p.sectors = place.count;
  return layout.partitions.emplace_back(p);
}

}  // namespace

nuvrat::Layout mbr(std::uint64_t sectors, std::uint32_t sector_size, std::uint32_t signature) {
  nuvrat::Layout out;
  out.kind = nuvrat::TableKind::mbr;
  out.sector_size = sector_size;
  out.disk_sectors = sectors;
  out.disk_signature = signature;
  return out;
}

nuvrat::Layout gpt(std::uint64_t sectors, std::uint32_t sector_size, nuvrat::Random& random) {
  nuvrat::Layout out;
  out.kind = nuvrat::TableKind::gpt;
  out.sector_size = sector_size;
  out.disk_sectors = sectors;
  out.disk_guid = nuvrat::Guid::random(random);
  out.first_usable = nuvrat::gpt_first_usable(sector_size);
  out.last_usable = sectors - nuvrat::gpt_array_sectors(sector_size) - 2;
  return out;
}

nuvrat::Partition& add(nuvrat::Layout& layout, nuvrat::Role role, nuvrat::SectorRange place,
                       std::uint8_t type) {
  nuvrat::Partition& out = add_numbered(layout, role, place);
  out.type = type;
  return out;
}

nuvrat::Partition& add(nuvrat::Layout& layout, nuvrat::SectorRange place, nuvrat::Random& random) {
  nuvrat::Partition& out = add_numbered(layout, nuvrat::Role::gpt, place);
  out.type = nuvrat::basic_data_guid();
  out.unique_id = nuvrat::Guid::random(random);
  return out;
}

}  // namespace disk_bytes

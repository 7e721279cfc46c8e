#include "table/remains.h"

#include <algorithm>
#include <string_view>

#include <nuvrat/partition_type.h>

#include "device/given.h"

namespace nuvrat::table {
namespace {

// EBRs are at the edges of gaps: at the start of the old container, or in front of their partition.
constexpr std::uint64_t looked_at = 4096;

std::uint64_t field_of(ByteView sector, std::size_t offset) {
  std::uint64_t out = 0;
  for (std::size_t i = 4; i > 0; --i) out = out << 8 | sector[offset + i - 1];
  return out;
}

bool is_old_ebr(ByteView sector, std::uint64_t lba, const Layout& layout) {
  if (sector[510] != 0x55 || sector[511] != 0xAA || !all_zero(sector.subspan(478, 32)))
    return false;
  const std::uint8_t type = sector[446 + 4];
  const std::uint8_t link = sector[462 + 4];
  if (link != 0 && !is_extended_type(link)) return false;
  if (type == 0) return is_extended_type(link) && all_zero(sector.first(446));
  const std::uint64_t start = lba + field_of(sector, 446 + 8);
  const std::uint64_t sectors = field_of(sector, 446 + 12);
  return std::any_of(layout.partitions.begin(), layout.partitions.end(),
                     [&](const Partition& p) { return p.start == start && p.sectors == sectors; });
}

void look_in(const Device& device, SectorRange range, const Layout& layout, SectorSet& out) {
  for (std::uint64_t lba = range.first; lba < range.end(); ++lba) {
    const auto sector = device::read_if_given(device, lba);
    if (sector && is_old_ebr(*sector, lba, layout)) out.add({lba, 1});
  }
}

}  // namespace

SectorSet old_ebrs(const Device& device, const TableReading& table) {
  SectorSet found;
  for (const SectorRange& gap : table.all_owned().gaps({0, device.sectors()})) {
    look_in(device, {gap.first, std::min(gap.count, looked_at)}, table.layout, found);
    if (gap.count <= looked_at) continue;
    const std::uint64_t rest = std::min(gap.count - looked_at, looked_at);
    look_in(device, {gap.end() - rest, rest}, table.layout, found);
  }
  return found;
}

SectorSet old_gpt(const Device& device, const TableReading& table) {
  const std::uint64_t array = gpt_array_sectors(device.sector_size());
  const std::uint64_t last = device.sectors() - 1;
  const auto has_header = [&device](std::uint64_t lba) {
    const auto sector = device::read_if_given(device, lba);
    constexpr std::string_view mark = "EFI PART";
    return sector && std::equal(mark.begin(), mark.end(), sector->begin());
  };
  SectorSet out;
  if (has_header(1)) out.add({1, 1 + array});
  if (has_header(last)) out.add({last - array, array + 1});
  out.remove(table.all_owned());
  return out;
}

}  // namespace nuvrat::table

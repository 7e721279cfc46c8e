// What a disk shows of a table rewrite whose settle was cut off: LBA 0 carries the mark, and EBRs
// of the old chain still stand in the gaps.

#include <algorithm>

#include <nuvrat/assessment.h>
#include <nuvrat/partition_type.h>

namespace nuvrat {
namespace {

// EBRs lie at the edges of gaps: at the start of the old container, or in front of their partition.
constexpr std::uint64_t looked_at = 4096;

std::uint64_t field(ByteView sector, std::size_t offset) {
  std::uint64_t out = 0;
  for (std::size_t i = 4; i > 0; --i) out = out << 8 | sector[offset + i - 1];
  return out;
}

// True for an EBR of the old chain: it names a partition that is still there, or nothing but the
// next link. Anything less certain is left alone.
bool is_old_ebr(ByteView sector, std::uint64_t lba, const Layout& layout) {
  if (sector[510] != 0x55 || sector[511] != 0xAA || !all_zero(sector.subspan(478, 32)))
    return false;
  const std::uint8_t type = sector[446 + 4];
  const std::uint8_t link = sector[462 + 4];
  if (link != 0 && !is_extended_type(link)) return false;
  if (type == 0) return is_extended_type(link) && all_zero(sector.first(446));
  const std::uint64_t start = lba + field(sector, 446 + 8);
  const std::uint64_t sectors = field(sector, 446 + 12);
  return std::any_of(layout.partitions.begin(), layout.partitions.end(),
                     [&](const Partition& p) { return p.start == start && p.sectors == sectors; });
}

void look_in(const Device& device, SectorRange range, const Layout& layout, SectorSet& out) {
  for (std::uint64_t lba = range.first; lba < range.end(); ++lba) {
    if (is_old_ebr(device.read(lba), lba, layout)) out.add({lba, 1});
  }
}

}  // namespace

std::optional<Step> find_unfinished(Device& device) {
  const TableReading table = read_table(device);
  if (!table.settle_unfinished || table.layout.kind != TableKind::gpt) return std::nullopt;
  Step step;
  step.kind = "table-gpt";
  step.target = table.layout;
  step.boot_code.assign(table.sector0.begin(), table.sector0.begin() + 440);
  SectorSet used = owned_sectors(device);
  SectorSet found;
  for (const SectorRange& gap : used.gaps({0, device.sectors()}).ranges()) {
    look_in(device, {gap.first, std::min(gap.count, looked_at)}, table.layout, found);
    if (gap.count <= looked_at) continue;
    const std::uint64_t rest = std::min(gap.count - looked_at, looked_at);
    look_in(device, {gap.end() - rest, rest}, table.layout, found);
  }
  step.wipes = found.ranges();
  return step;
}

}  // namespace nuvrat

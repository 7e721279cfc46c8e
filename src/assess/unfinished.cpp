// What a disk shows of a table rewrite whose settle was cut off: LBA 0 carries the mark, and EBRs
// of the old chain still stand in the gaps.

#include <algorithm>
#include <string>

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

namespace {

SectorSet old_ebrs(Device& device, const TableReading& table) {
  SectorSet found;
  for (const SectorRange& gap : owned_sectors(device).gaps({0, device.sectors()}).ranges()) {
    look_in(device, {gap.first, std::min(gap.count, looked_at)}, table.layout, found);
    if (gap.count <= looked_at) continue;
    const std::uint64_t rest = std::min(gap.count - looked_at, looked_at);
    look_in(device, {gap.end() - rest, rest}, table.layout, found);
  }
  return found;
}

// Copies of a GPT behind an MBR that replaced it: where a header still stands, it and its customary
// array, as far as nobody owns them.
SectorSet old_gpt(Device& device) {
  const std::uint64_t array = gpt_array_sectors(device.sector_size());
  const std::uint64_t last = device.sectors() - 1;
  const auto has_header = [&device](std::uint64_t lba) {
    const Bytes sector = device.read(lba);
    const std::string mark = "EFI PART";
    return std::equal(mark.begin(), mark.end(), sector.begin());
  };
  SectorSet out;
  if (has_header(1)) out.add({1, 1 + array});
  if (has_header(last)) out.add({last - array, array + 1});
  out.remove(owned_sectors(device));
  return out;
}

}  // namespace

std::optional<Step> find_unfinished(Device& device) {
  const TableReading table = read_table(device);
  Step step;
  step.target = table.layout;
  step.sector0 = table.sector0;
  if (find_code(table.findings, "gpt.change-unfinished") != nullptr) {
    const std::uint64_t array = gpt_array_sectors(device.sector_size());
    step.kind = "gpt-home";
    for (const SectorRange& r : table.owned.ranges()) {
      for (std::uint64_t lba = r.first; lba < r.end() && lba + array <= r.end(); ++lba) {
        if (lba > 1 + array) step.wipes = {{lba, array}};
        if (!step.wipes.empty()) break;
      }
    }
    step.target.first_usable = gpt_first_usable(device.sector_size());
    step.target.last_usable = device.sectors() - array - 2;
    return step;
  }
  if (!table.settle_unfinished) return std::nullopt;
  SectorSet wipes = old_ebrs(device, table);
  if (table.layout.kind == TableKind::gpt) {
    step.kind = "table-gpt";
  } else {
    step.kind = "table-mbr";
    wipes.add(old_gpt(device));
    if (wipes.empty()) wipes.add({0, 1});  // nothing but the mark itself is left
  }
  step.wipes = wipes.ranges();
  return step;
}

}  // namespace nuvrat

#include <algorithm>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/table.h>

#include "base/record.h"
#include "table/chs.h"
#include "table/records.h"

namespace nuvrat {
namespace {

table::MbrEntry build_entry(const Partition& p, std::uint64_t relative_to, std::uint8_t type) {
  const std::uint64_t start = p.start - relative_to;
  if (p.start <= relative_to || start > 0xFFFFFFFF || p.sectors == 0 || p.sectors > 0xFFFFFFFF) {
    throw Error(
        ErrorCode::refused,
        fmt::format("partition {} ({}) can't be an entry of an MBR, whose numbers have 32 bits",
                    p.number, p.range().text()));
  }
  table::MbrEntry entry{};
  entry.boot_indicator = p.active ? 0x80 : 0x00;
  entry.starting_chs = table::chs_of(p.start);
  entry.ending_chs = table::chs_of(p.range().last());
  entry.os_type = type;
  entry.starting_lba = static_cast<std::uint32_t>(start);
  entry.size_in_lba = static_cast<std::uint32_t>(p.sectors);
  return entry;
}

std::uint8_t type_byte(const Partition& p) {
  const auto* type = std::get_if<std::uint8_t>(&p.type);
  if (type == nullptr || *type == 0) {
    throw Error(ErrorCode::refused, fmt::format("partition {} has no MBR type", p.number));
  }
  return *type;
}

std::vector<Partition> logicals_by_number(const Layout& layout) {
  std::vector<Partition> out;
  std::copy_if(layout.partitions.begin(), layout.partitions.end(), std::back_inserter(out),
               [](const Partition& p) { return p.role == Role::logical && p.table_sector; });
  std::sort(out.begin(), out.end(),
            [](const Partition& a, const Partition& b) { return a.number < b.number; });
  return out;
}

Bytes finish(table::MbrSector& sector, std::uint32_t sector_size) {
  sector.signature = table::mbr_signature;
  Bytes out(sector_size);
  base::store(sector, out);
  return out;
}

// One link of the chain: its own partition, and the sector of the next.
Bytes build_ebr(const Partition& p, const Partition* next, const Partition& extended,
                std::uint32_t sector_size) {
  table::MbrSector ebr{};
  ebr.partition_record[0] = build_entry(p, *p.table_sector, type_byte(p));
  if (next != nullptr) {
    Partition link;
    link.number = next->number;
    link.start = *next->table_sector;
    link.sectors = next->range().end() - *next->table_sector;
    ebr.partition_record[1] = build_entry(link, extended.start, 0x05);
  }
  return finish(ebr, sector_size);
}

}  // namespace

Bytes build_mbr(const Layout& layout, ByteView before) {
  Bytes out(before.begin(), before.end());
  out.resize(layout.sector_size);
  auto mbr = base::load<table::MbrSector>(out);
  const auto old = std::exchange(mbr.partition_record, {});
  mbr.unique_mbr_signature = layout.disk_signature;
  if (mbr.unknown.value() == table::settle_mark) mbr.unknown = std::uint16_t{0};
  for (const Partition& p : layout.partitions) {
    if (p.role == Role::logical) continue;
    if (p.number < 1 || p.number > 4 || p.role == Role::gpt) {
      throw Error(ErrorCode::refused, fmt::format("partition {} has no slot in an MBR", p.number));
    }
    table::MbrEntry& entry = mbr.partition_record[p.number - 1];
    entry = build_entry(p, 0, type_byte(p));
    for (const table::MbrEntry& o : old) {
      if (o.os_type == 0 || o.start() != p.start || o.sectors() != p.sectors) continue;
      entry.starting_chs = o.starting_chs;
      entry.ending_chs = o.ending_chs;
    }
  }
  mbr.signature = table::mbr_signature;
  base::store(mbr, out);
  return out;
}

std::vector<SectorWrite> build_ebrs(const Layout& layout) {
  std::vector<SectorWrite> out;
  const Partition* extended = layout.extended();
  const std::vector<Partition> logicals = logicals_by_number(layout);
  if (!logicals.empty() && (extended == nullptr || *logicals[0].table_sector != extended->start)) {
    throw Error(ErrorCode::refused,
                "the first EBR must be the first sector of the extended partition");
  }
  for (std::size_t i = 0; i < logicals.size(); ++i) {
    const Partition* next = i + 1 < logicals.size() ? &logicals[i + 1] : nullptr;
    out.push_back(
        {*logicals[i].table_sector, build_ebr(logicals[i], next, *extended, layout.sector_size)});
  }
  if (extended != nullptr && logicals.empty()) {
    table::MbrSector empty{};
    out.push_back({extended->start, finish(empty, layout.sector_size)});
  }
  return out;
}

}  // namespace nuvrat

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>
#include <nuvrat/table.h>
#include <nuvrat/text.h>

#include "base/record.h"
#include "table/chs.h"
#include "table/records.h"

namespace nuvrat {
namespace {

constexpr std::uint32_t entry_count = 128;

Bytes build_entries(const Layout& layout) {
  Bytes out(entry_count * sizeof(table::GptEntry));
  for (const Partition& p : layout.partitions) {
    const auto* type = std::get_if<Guid>(&p.type);
    const bool inside =
        p.sectors > 0 && p.start >= layout.first_usable && p.range().last() <= layout.last_usable;
    if (type == nullptr || p.number < 1 || p.number > entry_count || !inside) {
      throw Error(
          ErrorCode::refused,
          fmt::format("partition {} ({}) can't be an entry of a GPT whose usable sectors are "
                      "{} to {}",
                      p.number, p.range().text(), layout.first_usable, layout.last_usable));
    }
    table::GptEntry entry{};
    entry.partition_type_guid = type->on_disk();
    entry.unique_partition_guid = p.unique_id.on_disk();
    entry.starting_lba = p.start;
    entry.ending_lba = p.range().last();
    entry.attributes =
        p.active ? p.attributes | gpt_legacy_bootable : p.attributes & ~gpt_legacy_bootable;
    const std::u16string name = cut(to_utf16(p.name), entry.partition_name.size());
    for (std::size_t i = 0; i < name.size(); ++i) entry.partition_name[i] = name[i];
    base::store(entry, out, (p.number - 1) * sizeof(table::GptEntry));
  }
  return out;
}

SectorWrite build_header(const Layout& layout, ByteView entries, std::uint64_t lba,
                         std::uint64_t other, std::uint64_t array) {
  table::GptHeader h{};
  h.signature = table::gpt_signature;
  h.revision = 0x00010000;
  h.header_size = sizeof(table::GptHeader);
  h.my_lba = lba;
  h.alternate_lba = other;
  h.first_usable_lba = layout.first_usable;
  h.last_usable_lba = layout.last_usable;
  h.disk_guid = layout.disk_guid.on_disk();
  h.partition_entry_lba = array;
  h.number_of_partition_entries = entry_count;
  h.size_of_partition_entry = sizeof(table::GptEntry);
  h.partition_entry_array_crc32 = crc32(entries);
  h.header_crc32 = crc32(base::bytes_of(h));
  SectorWrite write{lba, Bytes(layout.sector_size)};
  base::store(h, write.data);
  return write;
}

}  // namespace

Bytes build_protective_mbr(std::uint64_t disk_sectors, std::uint32_t sector_size) {
  table::MbrSector mbr{};
  table::MbrEntry& entry = mbr.partition_record[0];
  entry.os_type = 0xEE;
  entry.starting_chs = {0x00, 0x02, 0x00};
  entry.ending_chs = {0xFF, 0xFF, 0xFF};
  entry.starting_lba = 1;
  entry.size_in_lba =
      static_cast<std::uint32_t>(std::min<std::uint64_t>(disk_sectors - 1, 0xFFFFFFFF));
  mbr.signature = table::mbr_signature;
  Bytes out(sector_size);
  base::store(mbr, out);
  return out;
}

GptBytes build_gpt(const Layout& layout, std::uint64_t array_lba) {
  const std::uint64_t array_sectors = gpt_array_sectors(layout.sector_size);
  const std::uint64_t last = layout.disk_sectors - 1;
  const bool fits =
      layout.kind == TableKind::gpt && array_lba >= 2 &&
      (layout.first_usable >= array_lba + array_sectors || layout.last_usable < array_lba) &&
      layout.last_usable < last - array_sectors && layout.first_usable <= layout.last_usable;
  if (!fits) {
    throw Error(
        ErrorCode::refused,
        fmt::format("usable sectors {} to {} leave no room for a GPT on a disk of {} sectors",
                    layout.first_usable, layout.last_usable, layout.disk_sectors));
  }
  GptBytes out;
  const Bytes entries = build_entries(layout);
  const std::uint64_t backup_array = last - array_sectors;
  out.protective_mbr = build_protective_mbr(layout.disk_sectors, layout.sector_size);
  out.array = {array_lba, entries};
  out.backup_array = {backup_array, entries};
  out.header = build_header(layout, entries, 1, last, array_lba);
  out.backup_header = build_header(layout, entries, last, 1, backup_array);
  return out;
}

void write_new_table(Device& device, const Layout& layout) {
  if (layout.kind == TableKind::gpt) {
    const GptBytes gpt = build_gpt(layout);
    for (const SectorWrite* w : {&gpt.array, &gpt.header, &gpt.backup_array, &gpt.backup_header}) {
      device.write(w->lba, w->data);
    }
    device.write(0, gpt.protective_mbr);
  } else {
    for (const SectorWrite& w : build_ebrs(layout)) device.write(w.lba, w.data);
    device.write(0, build_mbr(layout));
  }
  device.flush();
}

}  // namespace nuvrat

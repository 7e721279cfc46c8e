// Partition tables: whole disks as scripts, and chains and entries from plain numbers.

#include <algorithm>

#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

// Tables: MBR, EBR chain, GPT. A layout that reads without errors can be written again.
void table(ByteView input) {
  const auto disk = disk_from(input);
  if (!disk) return;
  const TableReading reading = read_table(*disk);
  (void)survey_text(survey_disk(*disk, utc()), {});
  expect_answer([&] {
    if (reading.layout.kind == TableKind::gpt) (void)build_gpt(reading.layout);
    if (reading.layout.kind == TableKind::mbr) {
      (void)build_mbr(reading.layout);
      (void)build_ebrs(reading.layout);
    }
  });
}

std::vector<Bytes> table_seeds() {
  std::vector<Bytes> out;
  for (const std::uint32_t size : {512u, 4096u}) {
    for (const TableKind kind : {TableKind::mbr, TableKind::gpt}) {
      MemoryDevice disk(1u << 16, size);
      Layout layout;
      layout.kind = kind;
      layout.sector_size = size;
      layout.disk_sectors = disk.sectors();
      Random random(3);
      Partition p;
      p.number = 1;
      p.start = 2048;
      p.sectors = 4096;
      p.type = std::uint8_t{0x0C};
      if (kind == TableKind::gpt) {
        p.role = Role::gpt;
        p.type = basic_data_guid();
        p.unique_id = layout.disk_guid = remember_type(0x0C, random);
        layout.first_usable = gpt_first_usable(size);
        layout.last_usable = disk.sectors() - gpt_array_sectors(size) - 2;
        layout.partitions = {p};
      } else {
        Partition extended;
        extended.number = 2;
        extended.role = Role::extended;
        extended.start = 8192;
        extended.sectors = 16384;
        extended.type = std::uint8_t{0x0F};
        layout.partitions = {p, extended};
        for (unsigned i = 0; i < 2; ++i) {
          Partition logical = p;
          logical.number = 5 + i;
          logical.role = Role::logical;
          logical.start = 8200 + i * 5000;
          logical.table_sector = logical.start - 8 + i;
          if (i == 0) logical.table_sector = extended.start;
          layout.partitions.push_back(logical);
        }
      }
      write_new_table(disk, layout);
      out.push_back(script_of(disk, true));
    }
  }
  return out;
}

// Eight bytes a link: where the next EBR lies, where its partition begins, how long it is, its
// type.
void ebr(ByteView input) {
  constexpr std::uint64_t container = 64;
  MemoryDevice disk(1u << 14, 512);
  Bytes mbr(512);
  put_entry(mbr, 0, 0x0F, container, (1u << 14) - container);
  disk.write(0, mbr);
  std::uint64_t at = container;
  for (std::size_t i = 0; i + 8 <= input.size() && i < 8 * 2000; i += 8) {
    Bytes sector(512);
    const std::uint64_t next = little(input, i, 2) % ((1u << 14) - container);
    put_entry(sector, input[i + 7] % 4, input[i + 6], little(input, i + 2, 2),
              little(input, i + 4, 2));
    put_entry(sector, input[i + 7] / 4 % 4, 0x05, next, 1);
    disk.write(at, sector);
    at = container + next;
  }
  const TableReading reading = read_table(disk);
  for (const SectorRange& r : reading.owned.ranges()) {
    if (r.end() > disk.sectors()) broken("the table owns sectors that aren't there");
  }
  (void)survey_text(survey_disk(disk, utc(), true), {});
}

std::vector<Bytes> ebr_seeds() {
  return {{100, 0, 2, 0, 50, 0, 0x83, 4, 200, 0, 2, 0, 50, 0, 0x0C, 4, 0, 0, 2, 0, 50, 0, 7, 4},
          {0, 0, 1, 0, 1, 0, 0x83, 4}};
}

// The bytes stand over the header and the entries of a good GPT, whose checksums are put right.
void gpt(ByteView input) {
  static const std::unique_ptr<MemoryDevice> good = gpt_disk();
  const auto disk = good->clone();
  Bytes front = disk->read(1, 3);
  for (std::size_t i = 0; i + 3 <= input.size(); i += 3) {
    const std::size_t at = little(input, i, 2) % front.size();
    if (at >= 8) front[at] = input[i + 2];
  }
  disk->write(1, front);
  mend_gpt(*disk);
  const TableReading reading = read_table(*disk);
  if (reading.layout.kind == TableKind::gpt && !has_errors(reading.findings)) {
    for (const Partition& p : reading.layout.partitions) {
      if (p.sectors == 0 || p.range().end() > disk->sectors())
        broken("a partition without a finding leaves the disk");
    }
    expect_answer([&] { (void)build_gpt(reading.layout); });
  }
  (void)survey_text(survey_disk(*disk, utc(), true), {});
}

std::vector<Bytes> gpt_seeds() {
  return {{0x48, 0, 3}, {0x20, 2, 1, 0x28, 2, 9}, {0x50, 0, 4, 0x54, 0, 0}};
}

}  // namespace

std::vector<Target> table_targets() {
  return {{"table", table, table_seeds}, {"ebr", ebr, ebr_seeds}, {"gpt", gpt, gpt_seeds}};
}

}  // namespace fuzz

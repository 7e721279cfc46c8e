#include <fmt/core.h>

#include "support.h"

using namespace nuvrat;
using support::put_entry;

namespace {

bool found(const TableReading& reading, Rule code) {
  return find_code(reading.findings, code) != nullptr;
}

// A disk of 10,000 sectors with an extended partition from 1000 to 8999.
struct ChainDisk {
  MemoryDevice device{10000, 512};
  ChainDisk() {
    Bytes mbr(512);
    put_entry(mbr, 0, 0x06, 100, 500);
    put_entry(mbr, 1, 0x0F, 1000, 8000);
    device.write(0, mbr);
  }
  // An EBR with a partition (0: none) relative to itself and a link (0: none) relative to 1000.
  void ebr(std::uint64_t at, std::uint32_t start, std::uint32_t sectors, std::uint32_t link,
           std::uint8_t link_type = 0x05) {
    Bytes sector(512);
    if (sectors != 0) put_entry(sector, 0, 0x06, start, sectors);
    if (link != 0) put_entry(sector, 1, link_type, link, 100);
    sector[510] = 0x55;
    sector[511] = 0xAA;
    device.write(at, sector);
  }
};

Layout gpt_layout(std::uint32_t sector_size, std::uint64_t sectors) {
  Random random(5);
  Layout layout = disk_bytes::gpt(sectors, sector_size, random);
  for (unsigned i = 0; i < 3; ++i) {
    Partition& p = disk_bytes::add(layout, {100 + 1000 * i, 500}, random);
    p.number = i * 2 + 1;
    p.name = i == 1 ? "潮位 𝄞" : "tide";
    p.active = i == 2;
    p.attributes = p.active ? gpt_legacy_bootable : 0;
  }
  return layout;
}

}  // namespace

TEST_CASE("table: chains as they are found in the wild") {
  SUBCASE("out of order, an empty first link, mixed types, EBR far from its partition") {
    ChainDisk disk;
    disk.ebr(1000, 0, 0, 5000);            // names no partition
    disk.ebr(6000, 63, 1000, 1500, 0x0F);  // the later partition comes first
    disk.ebr(2500, 200, 1000, 0);
    const TableReading reading = read_table(disk.device);
    CHECK(reading.findings.empty());
    REQUIRE(reading.layout.data_partitions().size() == 3);
    CHECK(reading.layout.find(5)->start == 6063);
    CHECK(reading.layout.find(6)->start == 2700);
    CHECK(reading.layout.find(6)->table_sector == 2500);
    CHECK(reading.owned.ranges() ==
          std::vector<SectorRange>{{0, 1}, {1000, 1}, {2500, 1}, {6000, 1}});
  }
  SUBCASE("a loop") {
    ChainDisk disk;
    disk.ebr(1000, 63, 500, 2000);
    disk.ebr(3000, 63, 500, 2000);
    CHECK(found(read_table(disk.device), Rule::ebr_loop));
  }
  SUBCASE("a link outside the container") {
    ChainDisk disk;
    disk.ebr(1000, 63, 500, 8500);
    CHECK(found(read_table(disk.device), Rule::ebr_link_outside));
  }
  SUBCASE("no signature") {
    ChainDisk disk;
    CHECK(found(read_table(disk.device), Rule::ebr_no_signature));
  }
  SUBCASE("partitions that overlap, leave the container or cover an EBR") {
    ChainDisk disk;
    disk.ebr(1000, 63, 3000, 2000);
    disk.ebr(3000, 63, 7000, 0);
    const TableReading reading = read_table(disk.device);
    CHECK(found(reading, Rule::mbr_overlap));
    CHECK(found(reading, Rule::ebr_partition_outside));
    CHECK(found(reading, Rule::mbr_over_table));
    CHECK(found(reading, Rule::mbr_outside));
  }
  SUBCASE("entries 3 and 4") {
    ChainDisk disk;
    disk.ebr(1000, 63, 500, 0);
    Bytes sector = disk.device.read(1000);
    put_entry(sector, 2, 0x06, 20000, 50);
    disk.device.write(1000, sector);
    REQUIRE(found(read_table(disk.device), Rule::ebr_extra_entry));
    CHECK(find_code(read_table(disk.device).findings, Rule::ebr_extra_entry)->severity ==
          Severity::warning);
    put_entry(sector, 2, 0x06, 2000, 50);  // some systems show this one
    disk.device.write(1000, sector);
    CHECK(find_code(read_table(disk.device).findings, Rule::ebr_extra_entry)->severity ==
          Severity::error);
  }
}

TEST_CASE("table: primaries that break the rules") {
  MemoryDevice device(10000, 512);
  Bytes mbr(512);
  put_entry(mbr, 0, 0x06, 100, 500, 0x80);
  put_entry(mbr, 1, 0x06, 300, 500, 0x80);
  put_entry(mbr, 2, 0x05, 2000, 100);
  put_entry(mbr, 3, 0x0F, 9000, 2000);
  device.write(0, mbr);
  const TableReading reading = read_table(device);
  for (const Rule code : {Rule::mbr_overlap, Rule::mbr_two_active, Rule::mbr_two_extended,
                          Rule::ebr_container_outside}) {
    CHECK_MESSAGE(found(reading, code), name_of(code));
  }
}

TEST_CASE("table: a written GPT holds by the specification and reads back the same") {
  for (const std::uint32_t size : {512u, 4096u}) {
    const Layout layout = gpt_layout(size, 20000);
    MemoryDevice device(20000, size);
    write_new_table(device, layout);
    const auto wrong = support::judge_gpt(device);
    for (const std::string& w : wrong) MESSAGE(w);
    CHECK(wrong.empty());
    const TableReading reading = read_table(device);
    CHECK(reading.findings.empty());
    CHECK(reading.layout == layout);
    CHECK(reading.copies.count() == gpt_array_sectors(size) + 1);
  }
}

TEST_CASE("table: damaged copies of a GPT are found, and the other one is read") {
  const Layout layout = gpt_layout(512, 20000);
  MemoryDevice device(20000, 512);
  write_new_table(device, layout);
  const auto damage = [&device](std::uint64_t lba, std::size_t offset) {
    Bytes sector = device.read(lba);
    sector[offset] ^= 0xFF;
    device.write(lba, sector);
  };
  SUBCASE("primary header") {
    damage(1, 40);
    const TableReading reading = read_table(device);
    CHECK(found(reading, Rule::gpt_primary_damaged));
    CHECK(reading.layout == layout);
  }
  SUBCASE("primary entries") {
    damage(5, 100);
    CHECK(found(read_table(device), Rule::gpt_primary_damaged));
  }
  SUBCASE("backup") {
    damage(19999, 88);
    const TableReading reading = read_table(device);
    CHECK(found(reading, Rule::gpt_backup_damaged));
    CHECK(reading.layout == layout);
  }
  SUBCASE("both") {
    damage(1, 0);
    damage(19999, 20);
    const TableReading reading = read_table(device);
    CHECK(found(reading, Rule::gpt_none_valid));
    CHECK(reading.layout.kind == TableKind::none);
  }
  SUBCASE("no protective MBR") {
    device.write(0, Bytes(512));
    const TableReading reading = read_table(device);
    CHECK(found(reading, Rule::gpt_protective_missing));
    CHECK(reading.layout == layout);
  }
  SUBCASE("a hybrid") {
    Bytes mbr = device.read(0);
    put_entry(mbr, 1, 0x0C, 1100, 500);
    device.write(0, mbr);
    CHECK(found(read_table(device), Rule::gpt_hybrid));
  }
  SUBCASE("an MBR over a GPT that was left behind") {
    Bytes mbr(512);
    put_entry(mbr, 0, 0x0C, 1100, 500);
    device.write(0, mbr);
    const TableReading reading = read_table(device);
    CHECK(found(reading, Rule::mbr_gpt_remains));
    CHECK(reading.layout.kind == TableKind::mbr);
  }
  SUBCASE("a disk that has grown") {
    MemoryDevice larger(30000, 512);
    larger.write(0, device.read(0, 20000));
    const TableReading reading = read_table(larger);
    CHECK(found(reading, Rule::gpt_backup_not_last));
    CHECK(reading.layout.partitions == layout.partitions);
  }
}

TEST_CASE("table: random bytes never do more than give findings") {
  Random random(support::seed(11));
  for (int round = 0; round < 3000; ++round) {
    MemoryDevice device(64 + random.below(200), 512);
    for (std::uint64_t lba = 0; lba < device.sectors(); lba += 1 + random.below(4)) {
      Bytes sector(512);
      random.fill(sector);
      if (random.below(3) != 0) {
        for (unsigned slot = 0; slot < 4; ++slot) {
          put_entry(sector, slot, random.below(2) == 0 ? 0x05 : 0x06,
                    static_cast<std::uint32_t>(random.below(200)),
                    static_cast<std::uint32_t>(random.below(100)));
        }
      }
      device.write(lba, sector);
    }
    CHECK_NOTHROW((void)read_table(device));
  }
}

TEST_CASE("table: a written MBR with its chain reads back the same") {
  Random random(support::seed(23));
  for (int round = 0; round < 500; ++round) {
    const std::uint32_t size = random.below(2) == 0 ? 512 : 4096;
    Layout layout;
    layout.kind = TableKind::mbr;
    layout.sector_size = size;
    layout.disk_sectors = 100000;
    layout.disk_signature = static_cast<std::uint32_t>(random.next());
    std::uint64_t at = 1 + random.below(100);
    const unsigned primaries = static_cast<unsigned>(random.below(4));
    for (unsigned i = 0; i < primaries; ++i) {
      Partition p;
      p.number = i + 1;
      p.start = at;
      p.sectors = 1 + random.below(3000);
      p.type = std::uint8_t{0x0C};
      p.active = i == 1;
      at += p.sectors + random.below(3) * 31;
      layout.partitions.push_back(p);
    }
    const unsigned logicals = static_cast<unsigned>(random.below(12));
    if (logicals > 0) {
      Partition extended;
      extended.number = primaries + 1;
      extended.role = Role::extended;
      extended.start = at;
      extended.type = std::uint8_t{0x05};
      for (unsigned i = 0; i < logicals; ++i) {
        Partition p;
        p.number = 5 + i;
        p.role = Role::logical;
        p.table_sector = at;
        p.start = at + 1 + random.below(2) * 62;
        p.sectors = 1 + random.below(3000);
        p.type = std::uint8_t{0x83};
        at = p.range().end();
        layout.partitions.push_back(p);
      }
      extended.sectors = at - extended.start;
      layout.partitions.push_back(extended);
    }
    layout.sort();
    MemoryDevice device(100000, size);
    write_new_table(device, layout);
    const TableReading reading = read_table(device);
    CHECK(reading.findings.empty());
    CHECK(reading.layout == layout);
  }
}

TEST_CASE("table: types in both worlds") {
  for (const unsigned byte : {0x01u, 0x04u, 0x06u, 0x07u, 0x0Bu, 0x0Cu, 0x0Eu}) {
    CHECK(gpt_type_for(static_cast<std::uint8_t>(byte), VolumeKind::fat32).guid ==
          basic_data_guid());
  }
  CHECK(gpt_type_for(0x1C, VolumeKind::fat32).attributes == gpt_hidden);
  CHECK(gpt_type_for(0xEF, VolumeKind::fat32).guid == efi_system_guid());
  CHECK(gpt_type_for(0x27, VolumeKind::ntfs).guid == Guid("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC"));
  CHECK(gpt_type_for(0x83, VolumeKind::linux_data).guid ==
        Guid("0FC63DAF-8483-4772-8E79-3D69D8477DE4"));
  CHECK(gpt_type_for(0x82, VolumeKind::swap).guid == Guid("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"));
  CHECK(gpt_type_for(0x82, VolumeKind::linux_data).carried);
  CHECK(gpt_type_for(0xAB, VolumeKind::unknown).carried);
  CHECK(gpt_type_for(0xAB, VolumeKind::unknown).guid !=
        gpt_type_for(0xAC, VolumeKind::unknown).guid);
  CHECK(class_of(std::uint8_t{0x42}) == TypeClass::managed);

  // Basic data goes to 07 unless the volume says better, and comes back as basic data.
  Partition p;
  p.role = Role::gpt;
  p.type = basic_data_guid();
  const std::vector<std::pair<VolumeKind, unsigned>> bytes = {
      {VolumeKind::fat12, 0x01},   {VolumeKind::fat16, 0x0E}, {VolumeKind::fat32, 0x0C},
      {VolumeKind::ntfs, 0x07},    {VolumeKind::exfat, 0x07}, {VolumeKind::other, 0x07},
      {VolumeKind::unknown, 0x07}, {VolumeKind::swap, 0x82},  {VolumeKind::linux_data, 0x83}};
  for (const auto& [kind, byte] : bytes) {
    CHECK(mbr_type_for(p, kind).byte == byte);
    CHECK_FALSE(mbr_type_for(p, kind).guessed);
    if (byte < 0x10)
      CHECK(gpt_type_for(static_cast<std::uint8_t>(byte), kind).guid == basic_data_guid());
  }
  p.attributes = gpt_hidden;
  CHECK(mbr_type_for(p, VolumeKind::ntfs).byte == 0x17);
  CHECK(mbr_type_for(p, VolumeKind::linux_data).byte == 0x83);  // has no hidden form

  // What isn't recognised, or is at home anywhere, goes with every type; what is keeps its form.
  for (const unsigned byte : {0x07u, 0x0Cu, 0x83u, 0xAFu, 0xDAu}) {
    Partition q;
    q.type = static_cast<std::uint8_t>(byte);
    for (const VolumeKind kind : {VolumeKind::other, VolumeKind::unknown}) {
      CHECK(type_matches(q, kind));
      CHECK(matching_type(q, kind) == q.type);
    }
  }
  Partition q;
  q.type = std::uint8_t{0x1C};
  CHECK(matching_type(q, VolumeKind::ntfs) == PartitionType(std::uint8_t{0x17}));
  q.type = std::uint8_t{0x07};
  CHECK_FALSE(type_matches(q, VolumeKind::linux_data));
}

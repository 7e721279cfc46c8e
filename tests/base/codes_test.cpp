// Codes that no other test looks for by name: for each a disk, or a plan, that has it. That there
// is a test for every one scripts/codes asks.

#include <functional>
#include <set>

#include <nuvrat/rewrite.h>

#include "ntfs_bytes.h"
#include "support.h"
#include "table_goals.h"

using namespace nuvrat;
using direction::assessed;
using support::little;
using support::put_entry;
using support::utc;

namespace {

// Up to the last enumerator of its kind.
template <typename Code>
void names_lead_back(Code last, std::optional<Code> (*named)(std::string_view)) {
  const auto count = static_cast<std::size_t>(last) + 1;
  for (std::size_t i = 0; i < count; ++i) {
    const auto code = static_cast<Code>(i);
    CHECK(row_of(code).code == code);
    CHECK(named(name_of(code)) == code);
    CHECK_FALSE(std::string(row_of(code).meaning).empty());
  }
  CHECK(count > 40);
  CHECK_FALSE(named("tides"));
}

bool says(const Findings& findings, Rule rule) {
  return find_code(findings, rule) != nullptr;
}
// Of a volume once every folder was read.
Findings read_of(const Device& volume) {
  const auto reader = open_volume(volume, utc());
  (void)reader->tree();
  return reader->findings();
}
bool says(const Assessment& a, ObstacleCode code) {
  return std::any_of(a.obstacles.begin(), a.obstacles.end(),
                     [code](const Obstacle& o) { return o.code == code; });
}
bool says(const Assessment& a, ConsentCode code) {
  return std::any_of(a.consents.begin(), a.consents.end(),
                     [code](const Consent& c) { return c.code == code; });
}

Findings of_mbr(const std::function<void(Bytes&)>& put) {
  MemoryDevice disk(10000, 512);
  Bytes mbr(512);
  put(mbr);
  disk.write(0, mbr);
  return read_table(disk).findings;
}

// A container from 1000 to 8999, with one EBR at its beginning.
Findings of_ebr(const std::function<void(Bytes&)>& put) {
  MemoryDevice disk(10000, 512);
  Bytes mbr(512);
  put_entry(mbr, 0, 0x05, 1000, 8000);
  disk.write(0, mbr);
  Bytes ebr(512);
  put(ebr);
  disk.write(1000, ebr);
  return read_table(disk).findings;
}

// Two partitions, 100 to 599 and 1000 to 1499, whose entries are changed in both copies.
Findings of_gpt(const std::function<void(Bytes&)>& change) {
  MemoryDevice disk(10000, 512);
  write_new_table(disk, direction::gpt(10000, {{100, 500}, {1000, 500}}));
  for (const std::uint64_t lba : {1u, 9999u}) {
    Bytes header = disk.read(lba);
    const std::uint64_t at = little(header, 72, 8);
    Bytes array = disk.read(at, 32);
    change(array);
    disk.write(at, array);
    support::put(header, 88, support::slow_crc32(array), 4);
    support::put(header, 16, 0, 4);
    support::put(header, 16, support::slow_crc32(ByteView(header).first(92)), 4);
    disk.write(lba, header);
  }
  return read_table(disk).findings;
}

}  // namespace

TEST_CASE("codes: each has a name that leads back to it, and a meaning") {
  names_lead_back(Rule::ntfs_volume_record, rule_named);
  names_lead_back(ObstacleCode::keep_unowned, obstacle_named);
  names_lead_back(ConsentCode::letters, consent_named);
}

TEST_CASE("codes: tables that break a rule") {
  CHECK(says(of_mbr([](Bytes& b) { put_entry(b, 0, 0, 100, 100); }), Rule::mbr_type_zero));
  CHECK(says(of_ebr([](Bytes& b) { put_entry(b, 0, 0x06, 0, 100); }), Rule::ebr_on_itself));
  CHECK(says(of_ebr([](Bytes& b) {
               put_entry(b, 0, 0x06, 63, 100);
               put_entry(b, 1, 0x05, 50000, 100);
             }),
             Rule::ebr_link_outside));
  CHECK(says(of_ebr([](Bytes& b) {
               put_entry(b, 0, 0x06, 63, 100);
               put_entry(b, 1, 0x06, 500, 100);
             }),
             Rule::ebr_two_partitions));
  CHECK(says(of_mbr([](Bytes& b) { put_entry(b, 0, 0x05, 20000, 100); }), Rule::ebr_outside));

  const auto first = [](std::uint64_t lba) {
    return [lba](Bytes& array) { support::put(array, 32, lba, 8); };
  };
  const auto last = [](std::uint64_t lba) {
    return [lba](Bytes& array) { support::put(array, 40, lba, 8); };
  };
  CHECK(says(of_gpt(last(99)), Rule::gpt_entry_empty));
  CHECK(says(of_gpt(first(10)), Rule::gpt_entry_outside));
  CHECK(says(of_gpt(last(20000)), Rule::gpt_outside));
  CHECK(says(of_gpt(last(1200)), Rule::gpt_overlap));
  CHECK(says(of_gpt([](Bytes& b) {
               std::copy(b.begin() + 128 + 16, b.begin() + 128 + 32, b.begin() + 16);
             }),
             Rule::gpt_id_repeated));

  MemoryDevice disk(10000, 512);
  write_new_table(disk, direction::gpt(10000, {{100, 500}}));
  Bytes header = disk.read(1);
  header[500] = 1;
  disk.write(1, header);
  CHECK(says(read_table(disk).findings, Rule::gpt_header_rest));

  // The first half of a change inside a GPT.
  const Assessment a = assessed(disk, {"p1.name=Tides"});
  REQUIRE(a.steps.size() == 2);
  QuietProgress quiet;
  Overlay overlay(disk);
  const auto rewrite = make_rewrite(a.steps[0], disk);
  Engine(disk, quiet).run(*rewrite, Engine::inspect(*rewrite, overlay, owned_sectors));
  CHECK(says(read_table(disk).findings, Rule::gpt_change_unfinished));
}

TEST_CASE("codes: volumes that break a rule") {
  // One that is shorter than its partition.
  MemoryDevice disk(40000, 512);
  Bytes mbr(512);
  put_entry(mbr, 0, 0x0E, 2048, 30000);
  disk.write(0, mbr);
  WritableWindow place(disk, {2048, 20000});
  FatFormat options;
  options.kind = VolumeKind::fat16;
  options.cluster_sectors = 4;
  options.hidden_sectors = 2048;
  FatWriter(place, options).finish();
  CHECK(says(survey_disk(disk, utc()).all_findings(), Rule::volume_shorter));
  // Its first sector loses one field that all the rest goes by.
  Bytes boot = disk.read(2048);
  boot[13] = 3;
  disk.write(2048, boot);
  CHECK(says(survey_disk(disk, utc()).all_findings(), Rule::volume_boot_damaged));

  // A block of a folder's index that isn't one.
  const support::NtfsBytes v;
  v.change_block([](Bytes& b) { b[0] = 0; });
  CHECK(says(read_of(*v.disk), Rule::ntfs_index));
  // A folder that has a second name, which its folder lists, too.
  const support::NtfsBytes twice([](FatWriter& writer) {
    writer.add_directory("D");
    for (const char* folder : {"D/EBBE", "D/FLUT"}) writer.add_directory(folder);
    for (int i = 0; i < 60; ++i) writer.add_file(fmt::format("D/tide number {}.csv", i), {});
  });
  std::uint64_t ebbe = 0, flut = 0;
  twice.change_block([&](Bytes& b) {
    const std::size_t first = 0x18 + little(b, 0x18, 4);
    const std::size_t second = first + little(b, first + 8, 2);
    ebbe = little(b, first, 4);
    flut = little(b, second, 4);
    support::put(b, second, little(b, first, 8), 8);
  });
  const Bytes other = twice.record(flut);
  const std::size_t name = twice.attribute(flut, 0x30);
  twice.replace(ebbe, twice.attribute(ebbe, 0x30), 0,
                Bytes(other.begin() + static_cast<long>(name),
                      other.begin() + static_cast<long>(name + little(other, name + 4, 4))));
  CHECK(says(read_of(*twice.disk), Rule::ntfs_folder_twice));
}

TEST_CASE("codes: plans that are refused") {
  SUBCASE("more partitions than a GPT has entries") {
    MemoryDevice disk(60000, 512);
    Bytes mbr(512);
    put_entry(mbr, 0, 0x05, 1000, 58000);
    disk.write(0, mbr);
    for (unsigned i = 0; i < 130; ++i) {
      Bytes ebr(512);
      put_entry(ebr, 0, 0x06, 10, 100);
      if (i < 129) put_entry(ebr, 1, 0x05, (i + 1) * 200, 200);
      disk.write(1000 + i * 200, ebr);
    }
    REQUIRE(read_table(disk).layout.data_partitions().size() == 130);
    CHECK(says(assessed(disk, {"table=gpt"}), ObstacleCode::too_many));
  }
  SUBCASE("a GPT without room for a second array, and nothing that is a volume") {
    MemoryDevice disk(10000, 512);
    write_new_table(disk, direction::gpt(10000, {{34, 10000 - 67}}));
    CHECK(says(assessed(disk, {"p1.name=Tides"}), ObstacleCode::no_room_aside));
    CHECK(says(assessed(disk, {"p1=fat32"}), ObstacleCode::not_readable));
  }
  SUBCASE("FATs that find no place between bad clusters") {
    const support::NtfsBytes v(support::NtfsBytes::usual_files, 640000);
    REQUIRE(v.spc == 1);
    CHECK(assessed(*v.disk, {"volume=fat32", "volume.cluster=512"}).in_reach());
    std::vector<std::uint64_t> bad;
    const SectorSet owned = open_volume(*v.disk, utc())->owned();
    for (std::uint64_t lcn = 2500; lcn < 82000; lcn += 2500) {
      if (!owned.contains({lcn, 1})) bad.push_back(lcn);
    }
    REQUIRE(bad.size() > 20);
    v.mark_bad(bad);
    CHECK(check_volume(*v.disk, utc()).empty());
    const Assessment a = assessed(*v.disk, {"volume=fat32", "volume.cluster=512"});
    CHECK(says(a, ObstacleCode::front_in_use));
    CHECK(a.obstacles.at(0).text.find("bad clusters") != std::string::npos);
    CHECK(says(assessed(*v.disk, {"volume=fat16", "volume.cluster=512"}),
               ObstacleCode::cluster_count));
  }
  SUBCASE("a name that a FAT folder has twice") {
    MemoryDevice disk(200000, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    FatWriter writer(disk, format);
    for (const char* name : {"EBBE.CSV", "FLUT.CSV"}) writer.add_file(name, {});
    writer.finish();
    const std::uint64_t root = little(disk.read(0), 14, 2) + 2 * little(disk.read(0), 36, 4);
    Bytes sector = disk.read(root);
    std::copy_n("EBBE", 4, std::search(sector.begin(), sector.end(), "FLUT", "FLUT" + 4));
    disk.write(root, sector);
    CHECK(says(check_volume(disk, utc()), Rule::fat_name_twice));
    CHECK_FALSE(assessed(disk, {"volume=ntfs"}).in_reach());
  }
  SUBCASE("more sectors of FATs to mend than one sector's switch is good for") {
    constexpr std::uint64_t fat_sectors = 34000;
    MemoryDevice disk(fat_sectors * 128 + 2 * fat_sectors, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    FatWriter writer(disk, format);
    writer.add_file("EBBE.CSV", volumes::noise(512, 1));
    writer.finish();
    const Bytes boot = disk.read(0);
    const std::uint64_t reserved = little(boot, 14, 2), length = little(boot, 36, 4);
    REQUIRE(length > 33000);
    for (std::uint64_t i = 1; i < 33000; ++i) {  // a cluster of each that no file has
      Bytes sector = disk.read(reserved + i);
      support::put(sector, 0, 0x0FFFFFFF, 4);
      for (const std::uint64_t fat : {reserved, reserved + length}) disk.write(fat + i, sector);
    }
    const Assessment a = assess_repair(disk, utc(), Unowned::free);
    CHECK(says(a, ObstacleCode::mend_too_large));
    CHECK(a.steps.empty());
  }
}

TEST_CASE("codes: what plans are agreed to") {
  SUBCASE("from NTFS to FAT") {
    const support::NtfsBytes v;
    const Assessment a = assessed(*v.disk, {"volume=fat16"});
    CHECK(says(a, ConsentCode::time_steps));
  }
  SUBCASE("a long name that is damaged") {
    MemoryDevice disk(40000, 512);
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 4;
    FatWriter writer(disk, format);
    writer.add_file("Tides of the year.txt", {});
    writer.finish();
    bool done = false;
    for (std::uint64_t lba = 1; lba < 400 && !done; ++lba) {
      Bytes sector = disk.read(lba);
      for (std::size_t at = 0; at < sector.size() && !done; at += 32) {
        done = sector[at] == 0x42 && sector[at + 11] == 0x0F;
        if (done) ++sector[at + 13];  // the checksum
      }
      if (done) disk.write(lba, sector);
    }
    REQUIRE(done);
    CHECK(says(assessed(disk, {"volume=ntfs"}), ConsentCode::long_names));
  }
  SUBCASE("roles and starts in an MBR") {
    MemoryDevice disk(200000, 512);
    Bytes mbr(512);
    put_entry(mbr, 0, 0x0E, 20480, 40000);
    put_entry(mbr, 1, 0x0E, 80000, 40000);
    disk.write(0, mbr);
    for (const std::uint64_t start : {20480u, 80000u}) {
      WritableWindow place(disk, {start, 40000});
      FatFormat options;
      options.kind = VolumeKind::fat16;
      options.cluster_sectors = 4;
      options.hidden_sectors = static_cast<std::uint32_t>(start);
      FatWriter(place, options).finish();
    }
    CHECK(says(assessed(disk, {"p1=logical"}), ConsentCode::renumbered));
    CHECK(says(assessed(disk, {"p1.front=max"}), ConsentCode::front_letters));
  }
}

// Nothing is empty because it can't be read: a volume without a table of which a field is wrong, a
// table with an absurd entry, a place where a volume was; and a disk whose system is hibernated.

#include <algorithm>

#include <fmt/core.h>

#include "ntfs_bytes.h"
#include "support.h"
#include "table_goals.h"

using namespace nuvrat;
using direction::assessed;
using support::utc;

namespace {

std::unique_ptr<MemoryDevice> bare(VolumeKind kind) {
  auto disk = support::disk(kind == VolumeKind::fat12 ? 8000 : 200000);
  FatFormat format;
  format.kind = kind;
  format.cluster_sectors = kind == VolumeKind::fat16 ? 4 : 2;
  if (kind == VolumeKind::fat32) format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  writer.add_directory("EBBE");
  for (int i = 0; i < 40; ++i)
    writer.add_file(fmt::format("EBBE/PEGEL{:03}.BIN", i), support::noise(900, i + 1u));
  writer.finish();
  return disk;
}

}  // namespace

TEST_CASE("not empty: a volume without a table, whichever byte of its first sector is wrong") {
  unsigned tried = 0, still_read = 0, named = 0;
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32}) {
    CAPTURE(std::string(name_of(kind)));
    const auto sound = bare(kind);
    const std::string seal = support::manifest_of(*sound).seal();
    for (std::size_t at = 0; at < 90; ++at) {
      for (const int value : {0x00, 0x01, 0x7F, 0xFF}) {
        const auto disk = sound->clone();
        for (const std::uint64_t lba : {0u, 6u}) {  // the second boot sector, too
          if (lba > 0 && kind != VolumeKind::fat32) continue;
          Bytes sector = disk->read(lba);
          sector[at] = static_cast<std::uint8_t>(value);
          disk->write(lba, sector);
        }
        if (disk->same_as(*sound)) continue;
        CAPTURE(at);
        CAPTURE(value);
        ++tried;
        const Survey survey = survey_disk(*disk, utc(), true);
        CHECK(survey.bare_volume);
        const Manifest m = support::manifest_of(*disk);
        if (m.seal() == seal && m.whole()) {
          ++still_read;
          continue;
        }
        CHECK((has_errors(survey.all_findings()) || !m.whole()));
        ++named;
        for (const char* goal : {"table=gpt", "table=mbr", "g1=ntfs", "g1=fat16"}) {
          try {
            CHECK_FALSE(assessed(*disk, {goal}).in_reach());
          } catch (const Error& e) {
            CHECK(e.code() == ErrorCode::words);  // there is no gap
          }
        }
      }
    }
  }
  MESSAGE(tried << " wrong bytes: " << still_read << " volumes read as before, " << named
                << " named as damaged, none taken for an empty disk");
}

TEST_CASE("not empty: absurd extended entries are a damaged table, not none") {
  for (const auto& [start, sectors] : {std::pair{0u, 40000u}, std::pair{4096u, 0u}}) {
    const auto disk = support::disk(100000);
    Bytes mbr(512);
    support::put_entry(mbr, 0, 0x0C, 2048, 20000);
    support::put_entry(mbr, 1, 0x05, start, sectors);
    mbr[510] = 0x55;
    mbr[511] = 0xAA;
    disk->write(0, mbr);
    const TableReading table = read_table(*disk);
    CHECK(table.layout.kind == TableKind::mbr);
    CHECK(table.layout.partitions.size() == 1);
    CHECK(find_code(table.findings, Rule::mbr_entry_odd) != nullptr);
    CHECK_FALSE(assessed(*disk, {"table=gpt"}).in_reach());
  }
}

TEST_CASE("not empty: a GPT whose header names a wrong place for its copy says so") {
  Layout layout = direction::gpt(100000, {{2048, 20000}});
  MemoryDevice disk(100000, 512);
  GptBytes g = build_gpt(layout);
  support::put(g.header.data, 32, 1, 8);
  support::put(g.header.data, 16, 0, 4);
  support::put(g.header.data, 16, support::slow_crc32(ByteView(g.header.data).first(92)), 4);
  for (const SectorWrite* w : {&g.array, &g.header, &g.backup_array, &g.backup_header})
    disk.write(w->lba, w->data);
  disk.write(0, g.protective_mbr);
  CHECK(find_code(read_table(disk).findings, Rule::gpt_alternate) != nullptr);
}

TEST_CASE("not empty: where a partition was deleted the new one's owner is told of its volume") {
  const auto disk = support::disk(200000);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x0C, 2048, 20000);
  mbr[510] = 0x55;
  mbr[511] = 0xAA;
  disk->write(0, mbr);
  {
    WritableWindow place(*disk, {22528, 100000});
    FatFormat format;
    format.kind = VolumeKind::fat16;
    FatWriter writer(place, format);
    writer.add_file("PEGEL.BIN", support::noise(900, 1));
    writer.finish();
  }
  const auto told = [&] {
    for (const Consent& c : assessed(*disk, {"g1=raw"}).consents) {
      if (c.code == ConsentCode::gap_data && c.detail.find("volume") != std::string::npos)
        return c.detail;
    }
    return std::string();
  };
  CHECK(told().find("a volume begins there (FAT") != std::string::npos);
  Bytes boot = disk->read(22528);
  boot[13] = 3;
  disk->write(22528, boot);
  CHECK(told().find("a volume may begin there") != std::string::npos);
}

TEST_CASE("asleep: whatever volume a system is hibernated on, no rewrite of the disk is begun") {
  struct Head {
    const char* bytes;
    bool asleep, known;
  };
  const std::vector<Head> heads = {
      {"HIBR", true, true},      {"hibr", true, true}, {"RSTR", true, true},  {"HORM", true, true},
      {"LINK", true, true},      {"brkp", true, true}, {"wake", false, true}, {"WAKE", false, true},
      {"\0\0\0\0", false, true}, {"ABCD", true, false}};
  for (const Head& head : heads) {
    CAPTURE(std::string(head.bytes));
    const auto disk = support::disk(300000);
    Bytes mbr(512);
    support::put_entry(mbr, 0, 0x0E, 2048, 60000);
    support::put_entry(mbr, 1, 0x0E, 65536, 60000);
    mbr[440] = 7;
    mbr[510] = 0x55;
    mbr[511] = 0xAA;
    disk->write(0, mbr);
    for (const std::uint64_t start : {2048u, 65536u}) {
      WritableWindow place(*disk, {start, 60000});
      FatFormat format;
      format.kind = VolumeKind::fat16;
      format.cluster_sectors = 2;
      format.hidden_sectors = start;
      FatWriter writer(place, format);
      Bytes image(4096);
      std::copy_n(head.bytes, 4, image.begin());
      if (start == 65536) writer.add_file("hiberfil.sys", image);
      writer.add_file("PEGEL.BIN", support::noise(900, 1));
      writer.finish();
    }
    for (const char* goal : {"table=gpt", "p1=ntfs", "p1.label=EBBE", "p1=gone", "p1=logical"}) {
      CAPTURE(std::string(goal));
      const Assessment a = assessed(*disk, {goal});
      CHECK(a.in_reach() != head.asleep);
      if (head.asleep) CHECK(a.obstacles[0].code == ObstacleCode::asleep);
      Random random(1);
      ReadOptions told = utc();
      told.ignore_unknown_sleep = true;
      CHECK(assess(*disk, {parse_goal(goal)}, told, random).in_reach() ==
            (!head.asleep || !head.known));
    }
    // With its partition goes what it would wake up from.
    CHECK(assessed(*disk, {"p2=gone"}).in_reach());
  }
}

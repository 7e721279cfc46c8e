// What an assessment promises, the rehearsal of any legal disk keeps: every type and attribute of a
// GPT, large clusters on long sectors, names of one file that become several, by contents and by
// places.

#include <fmt/core.h>

#include "foreign_ntfs.h"
#include "support.h"
#include "table_goals.h"

using namespace nuvrat;
using support::utc;

namespace {

// False: refused before anything. Throws what the job throws: never "a mistake in Nuvrat".
bool done_and_put_back(const MemoryDevice& original, const std::vector<std::string>& words,
                       Proof proof) {
  const auto disk = original.clone();
  std::vector<Goal> goals;
  for (const std::string& word : words) goals.push_back(parse_goal(word));
  Random random(1);
  QuietProgress quiet;
  const Assessment a = assess(*disk, goals, utc(), random);
  if (!a.in_reach()) return false;
  const support::Folder folder(support::Folder::Where::memory);
  JobOptions options = support::case_in_memory(folder / "case");
  options.proof = proof;
  CHECK(run_job(*disk, a, options, quiet).sound());
  (void)revert_case(*disk, load_case(folder / "case"), {}, quiet);
  CHECK(disk->same_as(original));
  return true;
}

}  // namespace

TEST_CASE("kept: a GPT with every type and attribute, changed in every way, by both proofs") {
  const std::vector<std::string> types = {
      "21686148-6449-6E6F-744E-656564454649",  // BIOS boot
      "E3C9E316-0B5C-4DB8-817D-F92DF00215AE",  // reserved
      "C12A7328-F81F-11D2-BA4B-00A0C93EC93B",  // EFI system
      "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC",  // recovery
      "0FC63DAF-8483-4772-8E79-3D69D8477DE4",  // Linux data
      "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F",  // swap
      "A19D880F-05FC-4D3B-A006-743F0F84911E",  // RAID
      "E6D6D379-F507-44C2-A23C-238F2A3DF928",  // LVM
      "024DEE41-33E7-11D3-9D69-0008C781F39F",  // an MBR's scheme
      "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",  // basic data
      "6D7C0F2B-1E55-4C1B-9C3A-0A5B7E3D9F10",  // of nobody
  };
  unsigned done = 0, refused = 0;
  for (const std::string& type : types) {
    CAPTURE(type);
    for (const unsigned bit : {0u, 1u, 2u, 3u, 60u, 61u, 62u, 63u, 64u}) {
      Layout layout = direction::gpt(140000, {{2048, 2048}, {6144, 60000}});
      layout.partitions[0].type = Guid(type);
      layout.partitions[0].attributes = bit == 64 ? 0 : std::uint64_t{1} << bit;
      MemoryDevice disk(140000, 512);
      const GptBytes g = build_gpt(layout);
      for (const SectorWrite* w : {&g.array, &g.header, &g.backup_array, &g.backup_header})
        disk.write(w->lba, w->data);
      disk.write(0, g.protective_mbr);
      disk.write(3000, support::noise(5000 / 512 * 512, bit));
      for (const char* goal : {"table=mbr", "p1=gone", "p2.name=Ebbe", "p1.name=Flut"}) {
        CAPTURE(std::string(goal));
        for (const Proof proof : {Proof::contents, Proof::places})
          ++(done_and_put_back(disk, {goal}, proof) ? done : refused);
      }
    }
  }
  MESSAGE(done << " rewrites of GPTs with odd types and attributes, " << refused << " refused");
  CHECK(done > 600);
}

TEST_CASE("kept: FAT32 on sectors of 4096 bytes becomes NTFS, however large its clusters are") {
  unsigned done = 0;
  for (const std::uint32_t cluster : {8u, 16u}) {
    for (const std::uint32_t reserved : {8u, 14u, 22u, 32u}) {
      CAPTURE(cluster);
      CAPTURE(reserved);
      MemoryDevice disk(70000 * (cluster + 1), 4096);
      FatFormat format;
      format.kind = VolumeKind::fat32;
      format.cluster_sectors = cluster;
      format.reserved_sectors = reserved;
      FatWriter writer(disk, format);
      writer.add_file("PEGEL.BIN", support::noise(70000, 1));
      writer.finish();
      done += done_and_put_back(disk, {"volume=ntfs"}, Proof::contents) ? 1 : 0;
    }
  }
  CHECK(done == 8);
}

TEST_CASE("kept: an NTFS of other hands becomes FAT by both proofs, hard links too") {
  unsigned done = 0;
  for (const foreign::NtfsShape& shape : foreign::ntfs_shapes()) {
    const std::uint64_t bytes = 400u << 20;
    const foreign::Volume v = foreign::ntfs(shape, bytes);
    for (const char* kind : {"volume=fat32", "volume=fat16"}) {
      for (const Proof proof : {Proof::contents, Proof::places})
        done += done_and_put_back(*v.disk, {kind, "names=safe"}, proof) ? 1 : 0;
    }
  }
  MESSAGE(done << " conversions");
  CHECK(done >= 8);
}

TEST_CASE("kept: a FAT name with a character that FAT keeps is refused by name, or made safe") {
  MemoryDevice disk(200000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat32;
  format.cluster_sectors = 1;
  FatWriter writer(disk, format);
  writer.add_file("Pegel um zwoelf Uhr.txt", support::noise(700, 1));
  writer.finish();
  // In the long name's first piece, on the disk: "Pegel um zwoe…" gets a colon.
  for (std::uint64_t lba = 0; lba < disk.sectors(); lba = disk.next_data(lba + 1)) {
    Bytes sector = disk.read(lba);
    for (std::size_t at = 0; at + 32 <= sector.size(); at += 32) {
      if (sector[at + 11] != 0x0F || sector[at] != 1 || sector[at + 1] != 'P') continue;
      sector[at + 1 + 2 * 2] = ':';
      disk.write(lba, sector);
    }
    if (lba + 1 >= disk.sectors()) break;
  }
  Random random(1);
  const Assessment a = assess(disk, {parse_goal("volume=fat16")}, utc(), random);
  REQUIRE_FALSE(a.in_reach());
  CHECK(a.obstacles[0].text.find("Pe:el um zwoelf") != std::string::npos);
  CHECK(done_and_put_back(disk, {"volume=fat16", "names=safe"}, Proof::contents));
}

// FATs that differ: the folders say which one is right.

#include <algorithm>
#include <functional>

#include <fmt/core.h>

#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::manifest_of;
using support::utc;

namespace {

struct Made {
  std::unique_ptr<MemoryDevice> disk;
  std::uint64_t fat = 0;      // where the first one begins
  std::uint64_t sectors = 0;  // in each
};

// A volume without a table, with files of many clusters in pieces.
Made volume_with(VolumeKind kind, std::uint32_t sector_size) {
  Made out;
  out.disk = support::disk(kind == VolumeKind::fat32   ? 75000
                           : kind == VolumeKind::fat16 ? 9000
                                                       : 3000,
                           sector_size);
  FatFormat format;
  format.kind = kind;
  format.cluster_sectors = 1;
  format.label = "PEGEL";
  Random random(support::seed(5));
  FatWriter writer(*out.disk, format);
  for (unsigned folder = 0; folder < 6; ++folder) {
    const std::string name = fmt::format("gauge {}", folder);
    writer.add_directory(name);
    for (unsigned i = 0; i < 20; ++i)
      writer.add_file(fmt::format("{}/reading of day {}.csv", name, i),
                      volumes::noise(100 + random.below(sector_size * 8), 20 * folder + i));
  }
  writer.finish();
  const Bytes boot = out.disk->read(0);
  out.fat = disk_bytes::little(boot, 14, 2);
  out.sectors = disk_bytes::little(boot, 22, 2);
  if (out.sectors == 0) out.sectors = disk_bytes::little(boot, 36, 4);
  return out;
}

const Finding* differ(const Device& disk, Findings& kept) {
  kept = check_volume(disk, utc());
  return find_code(kept, Rule::fat_copies_differ);
}

using Change = std::function<void(Bytes&, Random&)>;
const std::vector<std::pair<const char*, Change>>& changes() {
  static const std::vector<std::pair<const char*, Change>> all = {
      {"zeros", [](Bytes& s, Random&) { std::fill(s.begin(), s.end(), std::uint8_t{0}); }},
      {"ends of chains",
       [](Bytes& s, Random&) { std::fill(s.begin(), s.end(), std::uint8_t{255}); }},
      {"noise", [](Bytes& s, Random& random) { random.fill(s); }},
      {"entries moved by one",
       [](Bytes& s, Random&) { std::rotate(s.begin(), s.begin() + 4, s.end()); }},
      {"one bit", [](Bytes& s, Random& random) { s[random.below(s.size())] ^= 4; }},
  };
  return all;
}

}  // namespace

TEST_CASE("FAT copies: whatever became of one of them, the other gives every file, and mends it") {
  struct Kind {
    VolumeKind kind;
    std::uint32_t sector_size;
  };
  unsigned first_wrong = 0, second_wrong = 0, unseen = 0;
  Random random(support::seed(17));
  for (const Kind& kind : {Kind{VolumeKind::fat12, 512}, Kind{VolumeKind::fat16, 512},
                           Kind{VolumeKind::fat32, 512}, Kind{VolumeKind::fat16, 4096}}) {
    const Made sound = volume_with(kind.kind, kind.sector_size);
    const Manifest recorded = manifest_of(*sound.disk);
    REQUIRE(recorded.files() == 120);
    std::uint64_t used = 0;  // sectors of the FAT that hold anything
    for (std::uint64_t i = 0; i < sound.sectors; ++i) {
      if (!all_zero(sound.disk->read(sound.fat + i))) used = i + 1;
    }
    for (const auto& [name, change] : changes()) {
      for (const std::uint64_t copy : {0, 1}) {
        for (int round = 0; round < 4; ++round) {
          CAPTURE(std::string(name_of(kind.kind)));
          CAPTURE(std::string(name));
          CAPTURE(copy);
          const std::uint64_t at = round == 0 ? 0 : random.below(used);
          CAPTURE(at);
          const auto disk = sound.disk->clone();
          const std::uint64_t lba = sound.fat + copy * sound.sectors + at;
          Bytes sector = disk->read(lba);
          change(sector, random);
          if (sector == disk->read(lba)) continue;
          disk->write(lba, sector);
          const auto broken = disk->clone();

          Findings findings;
          const Finding* f = differ(*disk, findings);
          REQUIRE(f != nullptr);
          const bool open = find_code(findings, Rule::fat_not_clean) != nullptr;
          // Where nothing leads to what was changed, it may be either.
          const bool any = f->severity == Severity::error;
          CHECK(manifest_of(*disk).seal() == recorded.seal());
          if (open) continue;  // its own system must say what is to become of it
          CHECK_MESSAGE((f->repairable || (copy == 0 && !any)), f->text);
          if (copy == 1) CHECK_FALSE(any);
          ++(copy == 1 ? second_wrong : any ? first_wrong : unseen);

          const Assessment a = assess_repair(*disk, utc(), Unowned::free);
          REQUIRE(a.in_reach());
          REQUIRE(!a.steps.empty());
          CHECK(a.consents.empty());
          support::Folder folder(support::Folder::Where::memory);
          QuietProgress quiet;
          const JobResult result =
              run_job(*disk, a, support::case_in_memory(folder / "case"), quiet);
          CHECK(result.sound());
          CHECK(verify_disk(recorded, *disk, utc(), quiet).comparison.equal());
          CHECK(differ(*disk, findings) == nullptr);
          if (copy == 1 || any) CHECK(disk->same_as(*sound.disk));
          CHECK(revert_case(*disk, load_case(folder / "case"), {}, quiet).equal());
          CHECK(disk->same_as(*broken));
        }
      }
    }
  }
  CHECK(first_wrong > 30);
  CHECK(second_wrong > 60);
  MESSAGE(first_wrong << " first FATs mended from the second one, " << second_wrong
                      << " second ones from the first, " << unseen
                      << " where no file says which one is right");
}

TEST_CASE("FAT copies: what only the first one knows of a file being written is not thrown away") {
  const Made sound = volume_with(VolumeKind::fat16, 512);
  const auto disk = sound.disk->clone();
  Bytes fat = disk->read(sound.fat, sound.sectors);
  const auto next_of = [&fat](std::uint64_t c) { return disk_bytes::little(fat, 2 * c, 2); };
  std::uint32_t end = 2, unused = 2;
  while (next_of(end) != 0xFFFF) ++end;
  while (next_of(unused) != 0) ++unused;
  const auto lead = [&fat](std::uint32_t from, std::uint32_t to) {
    disk_bytes::put(fat, 2 * from, to, 2);
  };
  SUBCASE("a chain that is longer than its entry says") {
    lead(end, unused);
    lead(unused, 0xFFFF);
  }
  SUBCASE("a chain without an entry") {
    lead(unused, 0xFFFF);
  }
  disk->write(sound.fat, fat);
  Findings findings;
  const Finding* f = differ(*disk, findings);
  REQUIRE(f != nullptr);
  CHECK(f->severity == Severity::warning);
  // A longer chain is its file's, and the second FAT gets it. Which of them is right about a
  // cluster of no file, nothing says: both stay.
  const bool of_file = next_of(end) == unused;
  const Bytes second = disk->read(sound.fat + sound.sectors, sound.sectors);
  CHECK(f->repairable == of_file);
  const Assessment a = assess_repair(*disk, utc());
  REQUIRE(a.in_reach());
  REQUIRE(a.steps.empty() == !of_file);
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  if (of_file) CHECK(run_job(*disk, a, support::case_in_memory(folder / "case"), quiet).sound());
  CHECK(disk->read(sound.fat, sound.sectors) == fat);
  CHECK(disk->read(sound.fat + sound.sectors, sound.sectors) == (of_file ? fat : second));
}

TEST_CASE("FAT copies: where each is wrong about something of its own, a person decides") {
  const Made sound = volume_with(VolumeKind::fat32, 512);
  const auto disk = sound.disk->clone();
  disk->write(sound.fat + 2, Bytes(512, 0xFF));
  disk->write(sound.fat + sound.sectors + 3, Bytes(512, 0xFF));
  const auto broken = disk->clone();
  Findings findings;
  const Finding* f = differ(*disk, findings);
  REQUIRE(f != nullptr);
  CHECK(f->severity == Severity::error);
  CHECK_FALSE(f->repairable);
  CHECK(assess_repair(*disk, utc(), Unowned::free).steps.empty());
  CHECK(disk->same_as(*broken));
  // What could be mended of it isn't offered.
  const std::string text = check_text(survey_disk(*disk, utc(), true), {});
  CHECK_MESSAGE(text.find("--repair leaves the volume alone") != std::string::npos, text);
  CHECK(text.find("can be mended") == std::string::npos);
}

TEST_CASE("FAT copies: a volume that was left open is not called closed by its second FAT") {
  const Made sound = volume_with(VolumeKind::fat32, 512);
  const auto disk = sound.disk->clone();
  Bytes head = disk->read(sound.fat);
  head[7] &= 0xF7;  // not closed: in the first FAT only, as systems write it
  disk->write(sound.fat, head);
  disk->write(sound.fat + 2, Bytes(512));
  Findings findings;
  const Finding* f = differ(*disk, findings);
  REQUIRE(f != nullptr);
  CHECK(f->severity == Severity::error);
  CHECK(find_code(findings, Rule::fat_not_clean) != nullptr);
  CHECK(assess_repair(*disk, utc(), Unowned::free).steps.empty());
  CHECK(manifest_of(*disk).files() == 120);
  OpenedVolume opened(*disk, 0, utc());
  const std::string listed = files_text(opened, "", list_files(opened.reader(), ""), {});
  CHECK_MESSAGE(listed.find("read with the second one") != std::string::npos, listed);
  CHECK(find_code(opened.findings(), Rule::fat_copies_differ) != nullptr);
  Random random(1);
  CHECK_FALSE(assess(*disk, {parse_goal("volume=ntfs")}, utc(), random).in_reach());
}

TEST_CASE(
    "FAT copies: of lost chains that run in circles, or into a file's, only what is lost goes") {
  const Made sound = volume_with(VolumeKind::fat16, 512);
  const auto disk = sound.disk->clone();
  std::vector<std::uint32_t> unused;
  Bytes fat = disk->read(sound.fat, sound.sectors);
  for (std::uint32_t c = 2; unused.size() < 6; ++c) {
    if (disk_bytes::little(fat, 2 * c, 2) == 0) unused.push_back(c);
  }
  const auto lead = [&](std::uint32_t from, std::uint32_t to) {
    disk_bytes::put(fat, 2 * from, to, 2);
  };
  lead(unused[0], unused[1]);
  lead(unused[1], 4);  // a file's
  lead(unused[2], unused[3]);
  lead(unused[3], unused[2]);
  lead(unused[4], unused[4]);
  disk->write(sound.fat, fat);
  disk->write(sound.fat + sound.sectors, fat);
  const Findings findings = check_volume(*disk, utc());
  REQUIRE(findings.size() == 1);
  CHECK(findings[0].code == Rule::fat_unowned);
  CHECK(findings[0].text.starts_with("5 clusters in "));
  CHECK_FALSE(assess_repair(*disk, utc(), Unowned::keep).in_reach());
  const Assessment a = assess_repair(*disk, utc(), Unowned::free);
  REQUIRE(a.in_reach());
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  CHECK(run_job(*disk, a, support::case_in_memory(folder / "case"), quiet).sound());
  CHECK(disk->same_as(*sound.disk));
}

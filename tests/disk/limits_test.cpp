// Disks that claim more than any system shows: each limit is a finding or a refusal in words.

#include <fmt/core.h>

#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::put_entry;
using support::utc;

namespace {

// n logical partitions of `sectors` each, one behind the other or all over each other.
std::unique_ptr<MemoryDevice> chain(std::uint32_t n, bool overlapping) {
  constexpr std::uint32_t container = 2048, each = 8;
  const std::uint32_t size = n * each + each;
  auto disk = support::disk(container + size + 100);
  Bytes mbr(512);
  put_entry(mbr, 0, 0x0F, container, size);
  disk->write(0, mbr);
  for (std::uint32_t i = 0; i < n; ++i) {
    Bytes ebr(512);
    put_entry(ebr, 0, 0x83, 1, overlapping ? size - i * each - 1 : each - 1);
    if (i + 1 < n) put_entry(ebr, 1, 0x05, (i + 1) * each, each);
    disk->write(container + i * each, ebr);
  }
  return disk;
}

}  // namespace

TEST_CASE("limits: a chain of EBRs is followed as far as any system would") {
  const TableReading most = read_table(*chain(1024, false));
  CHECK(most.findings.empty());
  CHECK(most.layout.data_partitions().size() == 1024);
  const TableReading more = read_table(*chain(1025, false));
  REQUIRE(find_code(more.findings, Rule::ebr_too_many) != nullptr);
  CHECK(find_code(more.findings, Rule::ebr_too_many)->severity == Severity::error);
  CHECK(find_code(more.findings, Rule::ebr_loop) == nullptr);
}

TEST_CASE("limits: partitions that cover the disk over and over are not all looked into") {
  const auto disk = chain(60, true);
  const Survey survey = survey_disk(*disk, utc());
  std::size_t left_out = 0;
  for (const SurveyedPartition& p : survey.partitions)
    left_out += find_code(p.findings, Rule::table_overlaps) != nullptr ? 1 : 0;
  CHECK(left_out > 20);
  CHECK(left_out < 60);
  QuietProgress quiet;
  CHECK(code_of([&] { (void)take_manifest(*disk, utc(), quiet); }) == ErrorCode::damaged);
  CHECK(take_manifest(*disk, utc(), quiet, {{7, 8}}).ranges.size() == 2);  // named, they are read
  Random random(1);
  CHECK_FALSE(assess(*disk, {parse_goal("table=gpt")}, utc(), random).in_reach());
}

TEST_CASE("limits: goals are not tried on more partitions than any system shows") {
  Random random(1);
  CHECK(assess_all(*chain(20, false), utc(), random).size() > 20);
  CHECK(code_of([&] { (void)assess_all(*chain(600, false), utc(), random); }) == ErrorCode::words);
}

TEST_CASE("limits: folders inside folders end where no system can name them") {
  auto disk = support::disk(400000);
  FatFormat format;
  format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  const std::string name(250, 'f');
  std::string path;
  for (int i = 0; i < 140; ++i) {
    path += (path.empty() ? "" : "/") + name;
    writer.add_directory(path);
    if (i == 129) writer.add_file(path + "/reading.csv", Bytes(100, 'x'));
  }
  writer.finish();
  const auto reader = open_volume(*disk, utc());
  CHECK(reader->tree().file_count() == 1);
  CHECK(reader->tree().directory_count() == 131);  // 130 × 251 units is the last that fits
  CHECK(find_code(reader->findings(), Rule::fat_path_too_long) != nullptr);
  const Findings checked = check_volume(*disk, utc());
  REQUIRE(find_code(checked, Rule::fat_path_too_long) != nullptr);
  Random random(1);
  const Assessment a = assess(*disk, {parse_goal("volume=ntfs")}, utc(), random);
  REQUIRE_FALSE(a.in_reach());
  CHECK(a.obstacles.front().finding == Rule::fat_path_too_long);
}

TEST_CASE("limits: chains that two folders or many files share are named, and cost no more") {
  auto disk = support::disk(80000);
  FatFormat format;
  format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  writer.add_file("long.bin", Bytes(30000 * 512, 'x'));
  for (int i = 0; i < 40; ++i) writer.add_file(fmt::format("f{}.bin", i), Bytes(600, 'y'));
  writer.add_directory("one");
  writer.add_directory("two");
  writer.finish();
  const Bytes boot = disk->read(0);
  const std::uint64_t fat = support::little(boot, 14, 2);
  const std::uint64_t data = fat + 2 * support::little(boot, 36, 4) - 2;
  std::uint32_t first = 0;
  // Every file begins in the first one's chain; the second folder is the first one.
  for (std::uint64_t c = support::little(boot, 44, 4); c < 0x0FFFFFF8;
       c = support::little(disk->read(fat + c / 128), c % 128 * 4, 4)) {
    const std::uint64_t s = data + c;
    Bytes sector = disk->read(s);
    for (std::size_t at = 0; at < 512; at += 32) {
      if (sector[at] == 0 || sector[at + 11] == 0x0F || sector[at + 11] == 0x08) continue;
      const bool folder = sector[at + 11] == 0x10;
      static std::uint8_t low = 0, high = 0;
      if (folder && sector[at] == 'T') {
        sector[at + 26] = low;
        sector[at + 27] = high;
      } else if (folder) {
        low = sector[at + 26];
        high = sector[at + 27];
      } else if (first++ > 0) {
        sector[at + 26] = 3;
        sector[at + 27] = 0;
      }
    }
    disk->write(s, sector);
  }
  REQUIRE(first == 41);
  const Findings findings = check_volume(*disk, utc());
  CHECK(find_code(findings, Rule::fat_folder_twice) != nullptr);
  CHECK(find_code(findings, Rule::fat_chain_shared) != nullptr);
  const auto reader = open_volume(*disk, utc());
  std::uint64_t sectors = 0;
  for (FileTree::Id id = 1; id < reader->tree().size(); ++id) {
    for (const SectorRange& e : reader->tree().extents(id)) sectors += e.count;
  }
  CHECK(sectors <= 4 * 80000);
  CHECK(has_errors(reader->findings()));
}

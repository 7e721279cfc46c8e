// A manifest leaves nothing out in silence: what can't be read is named, and makes it partial.

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "ntfs_bytes.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::NtfsBytes;
using support::put;
using support::utc;

namespace {

QuietProgress silent;

// Saved and loaded, it says the same; held against the same disk it is equal, and partial.
void must_be_partial(Device& disk, const Manifest& m) {
  CHECK_FALSE(m.whole());
  const support::Folder folder;
  save_manifest(m, folder / "m");
  const Manifest again = load_manifest(folder / "m");
  CHECK(again.left_out() == m.left_out());
  CHECK(again.unreadable_files() == m.unreadable_files());
  const Comparison c = verify_disk(again, disk, utc(), silent).comparison;
  CHECK(c.equal());
  CHECK(c.partial());
  CHECK(comparison_text(c, m, {}).find("all as recorded") == std::string::npos);
  CHECK(manifest_text(m, "", {}).find("partial") != std::string::npos);
}

const LeftOut* find_left_out(const Manifest& m, const std::string& path) {
  for (const ManifestVolume& v : m.volumes) {
    const auto it = std::find_if(v.left_out.begin(), v.left_out.end(),
                                 [&path](const LeftOut& l) { return l.path == path; });
    if (it != v.left_out.end()) return &*it;
  }
  return nullptr;
}

// A FAT volume with a folder of many files, in clusters of one sector.
std::unique_ptr<MemoryDevice> fat_volume() {
  auto disk = support::disk(40000);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  writer.add_directory("TIDES");
  for (int i = 0; i < 200; ++i)
    writer.add_file(fmt::format("TIDES/G{}.CSV", i), volumes::noise(600, 1));
  writer.add_file("LAST.CSV", volumes::noise(600, 2));
  writer.finish();
  return disk;
}

}  // namespace

TEST_CASE("partial: a torn block of an NTFS folder hides what it holds, and not in silence") {
  const NtfsBytes v;
  const Manifest whole = take_manifest(*v.disk, utc(), silent);
  REQUIRE(whole.whole());
  const std::uint64_t folder = v.record_of(u"D");
  v.disk->write(v.sector_of(folder, 0xA0) + 3, Bytes(512, 0));  // of one block, whichever
  const Manifest m = take_manifest(*v.disk, utc(), silent);
  CHECK(m.files() < whole.files());
  CHECK(m.files() > 5);  // the other blocks are read
  REQUIRE(find_left_out(m, "D") != nullptr);
  CHECK(find_left_out(m, "D")->record == folder);
  must_be_partial(*v.disk, m);
  CHECK_FALSE(compare(whole, m).equal());
}

TEST_CASE("partial: a file whose record can't be taken in is named, with its record and why") {
  const NtfsBytes v;
  const std::uint64_t file = v.record_of(u"UNITS.BIN");
  SUBCASE("its runs leave the volume") {
    const std::size_t at = v.attribute(file, 0x80);
    const Bytes bytes = v.record(file);
    const std::size_t runs = at + support::little(bytes, at + 32, 2);
    const auto length = static_cast<unsigned>(bytes[runs] & 15);
    const auto width = static_cast<unsigned>(bytes[runs] >> 4);
    v.change(file, runs + 1 + length, 1u << (8 * width - 1), width);
  }
  SUBCASE("its record is torn") {
    Bytes raw = v.disk->read(v.mft + file * 2);
    put(raw, 510, 0x1234, 2);
    v.disk->write(v.mft + file * 2, raw);
  }
  SUBCASE("its record can't be read") {
    FaultPlan plan;
    plan.bad_reads.add({v.mft + file * 2, 1});
    FaultDevice device(*v.disk, plan);
    const Manifest m = take_manifest(device, utc(), silent);
    REQUIRE(find_left_out(m, "UNITS.BIN") != nullptr);
    CHECK(find_left_out(m, "UNITS.BIN")->reason.find("device") != std::string::npos);
    return must_be_partial(device, m);
  }
  const Manifest m = take_manifest(*v.disk, utc(), silent);
  REQUIRE(find_left_out(m, "UNITS.BIN") != nullptr);
  CHECK(find_left_out(m, "UNITS.BIN")->record == file);
  must_be_partial(*v.disk, m);
}

TEST_CASE("partial: encrypted files are named") {
  const NtfsBytes v;
  const std::uint64_t file = v.record_of(u"A.BIN");
  v.change(file, v.attribute(file, 0x10) + 24 + 32, 0x4020, 4);
  const Manifest m = take_manifest(*v.disk, utc(), silent);
  CHECK(m.whole());
  CHECK(manifest_text(m, "", {}).find("1 file is encrypted") != std::string::npos);
  CHECK(manifest_text(m, "", {}).find("A.BIN") != std::string::npos);
}

TEST_CASE("partial: a FAT folder whose chain breaks, or whose sectors can't be read") {
  const auto disk = fat_volume();
  const Manifest whole = take_manifest(*disk, utc(), silent);
  REQUIRE(whole.whole());
  const auto reader = open_volume(*disk, utc());
  const Bytes boot = disk->read(0);
  const std::uint64_t reserved = support::little(boot, 14, 2);
  const std::uint64_t size = support::little(boot, 22, 2);
  const Bytes root = disk->read(reserved + 2 * size);
  std::size_t entry = 0;
  while ((root[entry + 11] & 0x10) == 0) entry += 32;
  const std::uint64_t cluster = support::little(root, entry + 26, 2);
  const std::uint64_t folder = reader->info().first_cluster + cluster - 2;
  SUBCASE("the chain") {
    // Free in both FATs: the folder's second cluster leads nowhere.
    for (const std::uint64_t fat : {reserved, reserved + size}) {
      const std::uint64_t at =
          2 * support::little(disk->read(fat + 2 * cluster / 512), 2 * cluster % 512, 2);
      Bytes sector = disk->read(fat + at / 512);
      put(sector, at % 512, 0, 2);
      disk->write(fat + at / 512, sector);
    }
    const Manifest m = take_manifest(*disk, utc(), silent);
    CHECK(m.files() < whole.files());
    REQUIRE(find_left_out(m, "TIDES") != nullptr);
    must_be_partial(*disk, m);
  }
  SUBCASE("a sector in the middle: what stands behind it is read") {
    FaultPlan plan;
    plan.bad_reads.add({folder + 2, 1});
    FaultDevice device(*disk, plan);
    const Manifest m = take_manifest(device, utc(), silent);
    CHECK(m.files() < whole.files());
    CHECK(m.files() + 16 >= whole.files());
    REQUIRE(find_left_out(m, "TIDES") != nullptr);
    must_be_partial(device, m);
    // And nothing is rewritten on the strength of it, unless its owner says so.
    const support::Folder cases;
    Random random(1);
    const Assessment a = assess(device, {parse_goal("volume=ntfs")}, utc(), random);
    CHECK_FALSE(a.in_reach());
  }
}

TEST_CASE("partial: sectors of a FAT that can't be read are taken from its copy") {
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32}) {
    CAPTURE(std::string(name_of(kind)));
    const auto disk = support::disk(kind == VolumeKind::fat12   ? 4000
                                    : kind == VolumeKind::fat16 ? 20000
                                                                : 70500);
    FatFormat format;
    format.kind = kind;
    format.cluster_sectors = 1;
    FatWriter writer(*disk, format);
    Random random(4);
    writer.add_directory("TIDES");
    for (unsigned i = 0; i < 40; ++i)
      writer.add_file("TIDES/M" + std::to_string(i), support::noise(random.below(4000), i));
    writer.finish();
    const Manifest whole = take_manifest(*disk, utc(), silent);
    const Bytes boot = disk->read(0);
    const std::uint64_t fat = support::little(boot, 14, 2);
    const std::uint64_t of_each = support::little(boot, 22, 2);
    const std::uint64_t size = of_each != 0 ? of_each : support::little(boot, 36, 4);
    for (const std::uint64_t copy : {fat, fat + size}) {
      FaultPlan plan;
      plan.bad_reads.add({copy, 2});
      FaultDevice device(*disk, plan);
      const Manifest m = take_manifest(device, utc(), silent);
      CHECK(m.whole());
      CHECK(m.seal() == whole.seal());
      const Survey survey = survey_disk(device, utc(), true);
      REQUIRE(survey.partitions.size() == 1);
      const Finding* f = find_code(survey.partitions[0].findings, Rule::fat_unreadable);
      REQUIRE(f != nullptr);
      CHECK(f->severity == Severity::error);
      CHECK(find_code(survey.partitions[0].findings, Rule::fat_copies_differ) == nullptr);
      Random other(1);
      CHECK_FALSE(assess(device, {parse_goal("volume.label=ELB")}, utc(), other).in_reach());
    }
    // In both of them: nothing stands for it.
    FaultPlan plan;
    plan.bad_reads.add({fat, 1});
    plan.bad_reads.add({fat + size, 1});
    FaultDevice device(*disk, plan);
    CHECK(take_manifest(device, utc(), silent).files() == 0);
  }
}

TEST_CASE("partial: of an image that was cut off, what there is") {
  const support::Folder folder;
  const auto image = folder / "tides.img";
  support::make_small_disk(image, 60000, 2048, 40000);
  Manifest whole, cut;
  {
    const auto disk = open_device(image);
    whole = take_manifest(*disk, utc(), silent);
  }
  SUBCASE("in the middle of its volume") {
    std::filesystem::resize_file(image, 30000 * 512);
    const auto disk = open_device(image);
    cut = take_manifest(*disk, utc(), silent);
    CHECK(cut.files() == whole.files());
    CHECK(cut.volumes.front().sectors == 40000);
    const Survey survey = survey_disk(*disk, utc());
    CHECK(find_code(survey.all_findings(), Rule::mbr_outside) != nullptr);
    CHECK(find_code(survey.all_findings(), Rule::table_overlaps) == nullptr);
  }
  SUBCASE("in front of its volume") {
    std::filesystem::resize_file(image, 1024 * 512);
    const auto disk = open_device(image);
    cut = take_manifest(*disk, utc(), silent);
    REQUIRE(cut.ranges.size() == 1);
    CHECK(cut.ranges.front().unreadable == std::vector<ByteRange>{{0, 40000 * 512}});
    must_be_partial(*disk, cut);
    CHECK_FALSE(compare(whole, cut).equal());
  }
}

TEST_CASE("partial: where a table can't be read, its files are not recorded, and that is said") {
  const support::Folder folder;
  REQUIRE(support::run(fmt::format("{} {}", NUVRAT_MAKE_DISKS, folder.path().string())).status ==
          0);
  const auto image = folder / "archive.img";  // a GPT, whose second copy goes with the image's end
  std::filesystem::resize_file(image, 900u << 20);
  const auto disk = open_device(image, {true, 0, 0});
  disk->write(1, Bytes(512, 0x5A));
  const Manifest m = take_manifest(*disk, utc(), silent);
  must_be_partial(*disk, m);
}

TEST_CASE("partial: a GPT whose disk ends early is read as far as it goes, and never rewritten") {
  for (const std::uint32_t size : {512u, 4096u}) {
    CAPTURE(size);
    const support::Folder folder;
    REQUIRE(support::run(fmt::format("{} {} {}", NUVRAT_MAKE_DISKS, folder.path().string(), size))
                .status == 0);
    const auto image = folder / "archive.img";
    Manifest whole;
    Layout layout;
    {
      const auto disk = open_device(image, {false, size, 0});
      whole = take_manifest(*disk, utc(), silent);
      layout = read_table(*disk).layout;
    }
    REQUIRE(whole.whole());
    // Without a sector that no file has; in the last partition, in front of it, and with nothing
    // left but the table.
    const Partition last = layout.partitions.back();
    for (const std::uint64_t length :
         {last.range().end() - 1, last.start + last.sectors / 2, last.start,
          layout.partitions.front().start, layout.first_usable}) {
      CAPTURE(length);
      std::filesystem::resize_file(image, length * size);
      const auto disk = open_device(image, {true, size, 0});
      const TableReading table = read_table(*disk);
      CHECK(table.layout.partitions == layout.partitions);
      CHECK(find_code(table.findings, Rule::gpt_cut_off) != nullptr);
      CHECK(find_code(table.findings, Rule::gpt_protective_entry) == nullptr);
      const Manifest cut = take_manifest(*disk, utc(), silent);
      if (length != last.range().end() - 1) CHECK_FALSE(cut.whole());
      if (!cut.whole()) must_be_partial(*disk, cut);
      const Comparison c = compare(whole, cut);
      for (const Difference& d : c.differences) {
        CAPTURE(d.path);
        CHECK(layout.find(d.number)->range().end() > length);
      }
      Random random(1);
      for (const Assessment& a : assess_all(*disk, utc(), random)) CHECK_FALSE(a.in_reach());
      CHECK_FALSE(assess_repair(*disk, utc()).in_reach());
    }
  }
}

TEST_CASE("partial: a manifest of chosen partitions speaks of those alone") {
  const support::Folder folder;
  const auto image = folder / "logger.img";
  REQUIRE(support::run(fmt::format("{} {}", NUVRAT_MAKE_DISKS, folder.path().string())).status ==
          0);
  const auto disk = open_device(image, {true, 0, 0});
  const Manifest chosen = take_manifest(*disk, utc(), silent, {{1}});
  CHECK(chosen.chosen);
  save_manifest(chosen, folder / "m");
  const Manifest loaded = load_manifest(folder / "m");
  // Whatever becomes of the others.
  const Partition other = read_table(*disk).layout.data_partitions().at(1);
  disk->write(other.start + 20, Bytes(512, 0x5A));
  CHECK(verify_disk(loaded, *disk, utc(), silent).comparison.equal());
  CHECK(compare(loaded, take_manifest(*disk, utc(), silent)).equal());
  const Comparison c = verify_disk(loaded, *disk, utc(), silent).comparison;
  CHECK(c.seal_before == c.seal_after);
}

TEST_CASE("partial: a disk that nobody knows is one range, and any bit of it counts") {
  const auto disk = support::disk(3000);
  disk->write(2000, volumes::noise(512, 9));
  const Manifest m = take_manifest(*disk, utc(), silent);
  REQUIRE(m.ranges.size() == 1);
  CHECK(m.ranges.front().sectors == 3000);
  Bytes sector = disk->read(2000);
  sector[100] ^= 1;
  disk->write(2000, sector);
  CHECK(compare(m, take_manifest(*disk, utc(), silent)).count == 1);
}

TEST_CASE(
    "partial: labels, times of making and of access are compared, the last only where asked") {
  const auto disk = support::disk(40000);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.label = "TIDES";
  FatWriter writer(*disk, format);
  writer.add_file("A.CSV", volumes::noise(600, 1));
  writer.finish();
  const Bytes boot = disk->read(0);
  const std::uint64_t at = support::little(boot, 14, 2) + 2 * support::little(boot, 22, 2);
  Bytes root = disk->read(at);
  std::size_t entry = 0;
  while ((root[entry + 11] & 0x08) != 0) entry += 32;
  put(root, entry + 16, 0x5A21, 2);  // made and read on a day of 2025
  put(root, entry + 18, 0x5A21, 2);
  disk->write(at, root);
  const Manifest before = take_manifest(*disk, utc(), silent);
  SUBCASE("accessed") {
    put(root, entry + 18, 0x5A24, 2);
    disk->write(at, root);
    const Manifest after = take_manifest(*disk, utc(), silent);
    CHECK(compare(before, after).count == 1);
    CHECK(compare(before, after, AccessTimes::left).equal());
  }
  SUBCASE("created") {
    put(root, entry + 16, 0x5A24, 2);
    disk->write(at, root);
    CHECK(compare(before, take_manifest(*disk, utc(), silent), AccessTimes::left).count == 1);
  }
  SUBCASE("label") {
    for (std::size_t i = 0; i < root.size(); i += 32) {
      if (root[i + 11] == 0x08) root[i] = 'S';
    }
    disk->write(at, root);
    const Comparison c = compare(before, take_manifest(*disk, utc(), silent));
    REQUIRE(c.count == 1);
    CHECK(c.differences.front().kind == DifferenceKind::label);
  }
}

TEST_CASE("partial: sectors of a table that can't be read, and what is known all the same") {
  const auto look = [](const MemoryDevice& disk, const SectorSet& bad) {
    FaultPlan plan;
    plan.bad_reads = bad;
    const auto copy = disk.clone();
    FaultDevice device(*copy, plan);
    const Survey survey = survey_disk(device, utc(), true);
    CHECK_FALSE(take_manifest(device, utc(), silent).device.empty());
    Random random(1);
    (void)assess_all(device, utc(), random);
    CHECK(assess_repair(device, utc(), Unowned::free).steps.empty());
    return survey;
  };
  const auto has = [](const Survey& survey, Rule code, std::uint64_t sector) {
    const Findings& all = survey.table.findings;
    return std::any_of(all.begin(), all.end(), [&](const Finding& f) {
      return f.code == code && f.place.sector == sector && !f.repairable;
    });
  };
  SUBCASE("GPT") {
    const scenarios::Scenario& scenario = scenarios::named("GPT to MBR");
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    const std::uint64_t last = disk.sectors() - 1;
    const Layout layout = read_table(disk).layout;
    CHECK(look(disk, SectorSet{{0, 1}}).table.layout == layout);
    CHECK(has(look(disk, SectorSet{{0, 1}}), Rule::table_unreadable, 0));
    for (const std::uint64_t lba : {std::uint64_t{1}, std::uint64_t{20}}) {
      const Survey survey = look(disk, SectorSet{{lba, 1}});
      CHECK(survey.table.layout == layout);
      CHECK(has(survey, Rule::gpt_primary_damaged, 1));
    }
    for (const std::uint64_t lba : {last, last - 5}) {
      const Survey survey = look(disk, SectorSet{{lba, 1}});
      CHECK(survey.table.layout == layout);
      CHECK(has(survey, Rule::gpt_backup_damaged, last));
    }
    SectorSet both{{1, 1}};
    both.add({last, 1});
    CHECK(look(disk, both).table.layout.partitions.empty());
  }
  SUBCASE("MBR") {
    const scenarios::Scenario& scenario = scenarios::named("MBR to GPT, 512");
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    const Layout layout = read_table(disk).layout;
    for (const std::uint64_t lba : {std::uint64_t{1}, disk.sectors() - 1}) {
      const Survey survey = look(disk, SectorSet{{lba, 1}});
      CHECK(survey.table.layout == layout);
      CHECK(has(survey, Rule::table_unreadable, lba));
    }
    const std::uint64_t second = *layout.find(6)->table_sector;
    const Survey survey = look(disk, SectorSet{{second, 1}});
    CHECK(survey.table.layout.find(5) != nullptr);
    CHECK(survey.table.layout.find(6) == nullptr);
    CHECK(has(survey, Rule::ebr_unreadable, second));
    const Survey nothing = look(disk, SectorSet{{0, 1}});
    CHECK(nothing.table.layout.partitions.empty());
    CHECK(has(nothing, Rule::table_unreadable, 0));
  }
}

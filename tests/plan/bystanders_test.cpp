// What others keep on the disk: layers that manage it, RAIDs that it belongs to, data where no
// partition is. It is refused, or said before it is overwritten.

#include <algorithm>

#include "disk_bytes.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using disk_bytes::noise;
using support::utc;

namespace {

Assessment assessed_for(const Device& disk, const std::string& word) {
  Random random(1);
  return assess(disk, {parse_goal(word)}, utc(), random);
}

// "" for none.
std::string obstacle_of(const Device& disk, const std::string& word) {
  const Assessment a = assessed_for(disk, word);
  if (a.in_reach()) return "";
  CHECK(a.steps.empty());
  CHECK_FALSE(a.obstacles[0].remedy.empty());
  return name_of(a.obstacles[0]);
}

bool agrees_to(const Assessment& a, const std::string& code) {
  return std::any_of(a.consents.begin(), a.consents.end(),
                     [&code](const Consent& c) { return name_of(c.code) == code; });
}

// Two FAT16 volumes with gaps around them; the first is shorter than its partition by `slack`.
std::unique_ptr<MemoryDevice> two_volumes(std::uint32_t sector_size, std::uint64_t slack,
                                          std::uint8_t type = 0x06) {
  auto disk = std::make_unique<MemoryDevice>(120000, sector_size);
  Bytes mbr(sector_size);
  support::put_entry(mbr, 0, type, 2048, 40000);
  support::put_entry(mbr, 1, 0x06, 50000, 40000);
  disk->write(0, mbr);
  for (const SectorRange& place : {SectorRange{2048, 40000 - slack}, SectorRange{50000, 40000}}) {
    WritableWindow window(*disk, place);
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 1;
    format.hidden_sectors = place.first;
    format.serial = static_cast<std::uint32_t>(place.first);
    FatWriter writer(window, format);
    writer.add_file("PEGEL.BIN", noise(90000, 3));
    writer.finish();
  }
  return disk;
}

constexpr std::array all_goals = {"table=gpt", "p1=ntfs",     "p1.size=-1MiB", "p1.label=NORD",
                                  "p1=gone",   "p1=logical",  "g1=raw",        "p2=ntfs",
                                  "p2=gone",   "p2.front=max"};

// At the byte of the device that it has to be at.
void put_superblock(Device& device, std::uint64_t byte, unsigned version, bool swapped = false) {
  const std::uint64_t lba = byte / device.sector_size();
  Bytes sector(device.sector_size());
  disk_bytes::put(sector, 0, 0xA92B4EFC, 4);
  if (version == 1) {
    disk_bytes::put(sector, 4, 1, 4);
    disk_bytes::put(sector, 144, byte / 512, 8);
  }
  if (swapped) std::reverse(sector.begin(), sector.begin() + 4);
  device.write(lba, sector);
}

}  // namespace

TEST_CASE("bystanders: a disk that a layer of its own manages, or that belongs to a RAID") {
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    CAPTURE(sector_size);
    const std::uint64_t bytes = 120000ull * sector_size;
    const auto refuses_all = [](const Device& disk, const std::string& code) {
      const Rule rule = code == "managed" ? Rule::disk_managed : Rule::disk_raid_member;
      CHECK(find_code(survey_disk(disk, utc()).table.findings, rule) != nullptr);
      for (const char* goal : all_goals) {
        CAPTURE(goal);
        CHECK(obstacle_of(disk, goal) == code);
      }
      const Assessment repair = assess_repair(disk, utc());
      REQUIRE_FALSE(repair.in_reach());
      CHECK(name_of(repair.obstacles[0]) == code);
    };
    refuses_all(*two_volumes(sector_size, 0, 0x42), "managed");
    const auto plain = two_volumes(sector_size, 0);
    for (const char* goal : all_goals) CHECK_MESSAGE(obstacle_of(*plain, goal) == "", goal);

    auto disk = plain->clone();
    put_superblock(*disk, bytes / 65536 * 65536 - 65536, 0);
    refuses_all(*disk, "raid-member");
    disk = plain->clone();
    put_superblock(*disk, bytes / 65536 * 65536 - 65536, 0, true);
    refuses_all(*disk, "raid-member");
    disk = plain->clone();
    put_superblock(*disk, (bytes - 8192) / 4096 * 4096, 1);
    refuses_all(*disk, "raid-member");
    disk = plain->clone();
    put_superblock(*disk, 4096, 1);
    refuses_all(*disk, "raid-member");
    // What was copied from elsewhere doesn't say that it is here.
    disk = plain->clone();
    put_superblock(*disk, 4096, 1);
    Bytes elsewhere = disk->read(4096 / sector_size);
    disk_bytes::put(elsewhere, 144, 1000, 8);
    disk->write(4096 / sector_size, elsewhere);
    CHECK(obstacle_of(*disk, "p1=ntfs") == "");
    disk = plain->clone();
    Bytes anchor(sector_size);
    disk_bytes::put(anchor, 0, 0x11DE11DE, 4);
    disk->write(disk->sectors() - 1, anchor);
    refuses_all(*disk, "raid-member");
  }
}

TEST_CASE("bystanders: of a partition that belongs to a RAID nothing is written") {
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    CAPTURE(sector_size);
    const auto disk = two_volumes(sector_size, 1000);
    WritableWindow first(*disk, {2048, 40000});
    const std::uint64_t bytes = 40000ull * sector_size;
    put_superblock(first, (bytes - 8192) / 4096 * 4096, 1);
    const Survey survey = survey_disk(*disk, utc());
    CHECK(find_code(survey.partitions[0].findings, Rule::volume_raid_member) != nullptr);
    CHECK(find_code(survey.partitions[1].findings, Rule::volume_raid_member) == nullptr);
    for (const char* goal :
         {"p1=ntfs", "p1.size=max", "p1.size=-1MiB", "p1.label=NORD", "p1.front=max"}) {
      CAPTURE(goal);
      CHECK(obstacle_of(*disk, goal) == "raid-member");
    }
    for (const char* goal :
         {"table=gpt", "p1=gone", "p1=logical", "p2=ntfs", "p1.active=yes", "g1=raw"}) {
      CAPTURE(goal);
      CHECK(obstacle_of(*disk, goal) == "");
    }
  }
}

TEST_CASE("bystanders: data after a volume's end is said before another volume fills the place") {
  for (const std::uint64_t where : {39000u, 39999u}) {
    CAPTURE(where);
    const auto disk = two_volumes(512, 20000);
    disk->write(2048 + where, noise(512, 9));
    for (const char* goal : {"p1=ntfs", "p1.size=max", "p1.cluster=4KiB"})
      CHECK_MESSAGE(agrees_to(assessed_for(*disk, goal), "slack-data"), goal);
    for (const char* goal : {"table=gpt", "p1.label=NORD", "p2=ntfs", "p1.active=yes"})
      CHECK_FALSE_MESSAGE(agrees_to(assessed_for(*disk, goal), "slack-data"), goal);
    CHECK_FALSE(agrees_to(assessed_for(*two_volumes(512, 20000), "p1=ntfs"), "slack-data"));
    // What can't be read may be anything.
    FaultPlan plan;
    plan.bad_reads.add({2048 + where - 7, 3});
    const Assessment a = assessed_for(FaultDevice(*disk, plan), "p1=ntfs");
    REQUIRE(agrees_to(a, "slack-data"));
    CHECK(a.consents[0].detail.find("sectors looked at hold data (3 can't be read)") !=
          std::string::npos);
  }
}

TEST_CASE("bystanders: no sector outside partitions that holds data is written without a word") {
  int told = 0, silent = 0;
  for (const scenarios::Scenario& s : scenarios::all()) {
    CAPTURE(s.name);
    MemoryDevice disk(s.sectors, s.sector_size);
    s.make(disk);
    const TableReading table = read_table(disk);
    SectorSet owned = table.owned;
    owned.add(table.copies);
    owned.add({0, 1});
    for (const Partition& p : table.layout.data_partitions()) owned.add(p.range());
    if (table.layout.data_partitions().empty()) continue;  // all of it is one volume
    const SectorSet others = owned.gaps({0, disk.sectors()});
    for (const SectorRange& range : others)
      disk.write(range.first, noise(range.count * s.sector_size, 7));
    const auto original = disk.clone();
    const Assessment a = s.assess(disk);
    if (!a.in_reach()) continue;
    const support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    CHECK(run_job(disk, a, support::case_in_memory(folder / "case"), quiet).sound());
    bool overwritten = false;
    for (const SectorRange& range : others)
      overwritten |=
          disk.read(range.first, range.count) != original->read(range.first, range.count);
    const bool said =
        agrees_to(a, "loader-code") || agrees_to(a, "data-at-end") || agrees_to(a, "gap-data");
    CHECK((said || !overwritten));
    (overwritten ? told : silent) += 1;
    (void)revert_case(disk, load_case(folder / "case"), {}, quiet);
    CHECK(disk.same_as(*original));
  }
  MESSAGE(told << " rewrites wrote over such data, as was said; " << silent << " did not");
  CHECK(told > 10);
  CHECK(silent > 5);
}

#include <chrono>
#include <filesystem>
#include <fstream>

#include "orrelune.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

JobResult convert(Device& device, const support::Folder& folder, Assessment* out = nullptr) {
  Random random(1);
  QuietProgress quiet;
  const Assessment assessment = assess(device, {parse_goal("table=gpt")}, utc(), random);
  for (const Obstacle& o : assessment.obstacles) MESSAGE(o.text);
  REQUIRE(assessment.in_reach());
  if (out != nullptr) *out = assessment;
  return run_job(device, assessment, {utc(), folder / "case"}, quiet);
}

}  // namespace

TEST_CASE("job: the logger disk becomes GPT; starts, lengths, hashes and seal are what they were") {
  for (const std::uint32_t size : {512u, 4096u}) {
    CAPTURE(size);
    const support::Folder folder;
    MemoryDevice device(orrelune::logger_sectors(size), size);
    orrelune::make_logger_disk(device);
    const Survey old = survey_disk(device, utc(), true);
    REQUIRE(old.all_findings().empty());
    QuietProgress quiet;
    const Manifest before = take_manifest(device, utc(), quiet);
    const auto original = device.clone();
    Assessment assessment;
    const JobResult result = convert(device, folder, &assessment);

    CHECK(result.sound());
    CHECK(result.files == before.files());
    CHECK(result.files > 500);
    CHECK(result.comparison.seal_before == before.seal());
    CHECK(result.comparison.seal_after == before.seal());
    const auto wrong = support::judge_gpt(device);
    for (const std::string& w : wrong) MESSAGE(w);
    CHECK(wrong.empty());

    const Layout now = read_table(device).layout;
    const std::vector<Partition> was = old.table.layout.data_partitions();
    REQUIRE(now.partitions.size() == was.size());
    for (std::size_t i = 0; i < was.size(); ++i) {
      CHECK(now.partitions[i].range() == was[i].range());
      CHECK(now.partitions[i].number == was[i].number);
      CHECK(now.partitions[i].active == was[i].active);
      CHECK(now.partitions[i].name == old.find(was[i].number)->volume->label);
    }

    // Just both GPTs, LBA 0 and the EBRs differ from the disk as it was.
    SectorSet allowed{
        {0, gpt_first_usable(size)},
        {device.sectors() - gpt_array_sectors(size) - 1, gpt_array_sectors(size) + 1}};
    for (const Partition& p : was) {
      if (p.table_sector) allowed.add({*p.table_sector, 1});
    }
    SectorSet written;
    for (const WrittenRange& w : result.written) written.add(w.range);
    CHECK(written == allowed);
    CHECK(written.count() == assessment.sectors_to_write);
    for (const SectorRange& r : allowed) original->write(r.first, device.read(r.first, r.count));
    CHECK(device.same_as(*original));
    for (const Partition& p : was) {
      if (p.table_sector) CHECK(all_zero(device.read(*p.table_sector)));
    }
    for (const char* file : {"assessment.json", "before.manifest", "after.manifest", "log.jsonl"}) {
      CHECK(std::filesystem::file_size(folder.path() / "case" / file) > 0);
    }
  }
}

TEST_CASE("job: the rewrite's own cost does not grow with the disk") {
  std::vector<std::uint64_t> sectors;
  std::vector<std::uint64_t> phases;
  for (const std::uint64_t bytes : {2ull << 30, (2ull << 40) - (1u << 20)}) {
    const support::Folder folder;
    create_image(folder / "disk.img", bytes / 512, 512, true);
    const auto device = open_device(folder / "disk.img", {true, 512});
    Layout layout = disk_bytes::mbr(bytes / 512);
    const Partition p = disk_bytes::add(layout, Role::primary, {2048, 1u << 20}, 0x0C);
    write_new_table(*device, layout);
    WritableWindow window(*device, p.range());
    FatFormat format;
    format.cluster_sectors = 8;
    FatWriter(window, format).finish();
    const JobResult result = convert(*device, folder);
    CHECK(result.sound());
    CHECK(support::judge_gpt(*device).empty());
    SectorSet written;
    for (const WrittenRange& w : result.written) written.add(w.range);
    sectors.push_back(written.count());
    phases.push_back(result.written.size());
  }
  CHECK(sectors[0] == sectors[1]);
  CHECK(sectors[0] == 67);  // two GPTs of 33 sectors and LBA 0
  CHECK(phases[0] == phases[1]);
}

TEST_CASE("job: a partition that Nuvrat can't read is carried and its range is compared") {
  const support::Folder folder;
  MemoryDevice device(100000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x83, 2048, 30000);
  support::put_entry(mbr, 1, 0xAB, 40000, 30000);
  device.write(0, mbr);
  Random random(2);
  Bytes noise(512 * 100);
  random.fill(noise);
  device.write(3000, noise);
  device.write(41000, noise);
  device.write(1, Bytes(512, 0x90));  // loader code behind the MBR
  Assessment assessment;
  const JobResult result = convert(device, folder, &assessment);
  CHECK(result.sound());
  CHECK(result.ranges == 2);
  std::string consents;
  for (const Consent& c : assessment.consents) consents += std::string(name_of(c.code)) + " ";
  CHECK(consents == "loader-code firmware type-carried ");
}

TEST_CASE("job: holes of an image are expected to take no time") {
  const auto expected = [](std::uint64_t filled) {
    MemoryDevice device(700000, 512);
    Bytes mbr(512);
    support::put_entry(mbr, 0, 0x83, 2048, 600000);
    device.write(0, mbr);
    const Bytes noise = support::noise(1u << 20, 3);
    for (std::uint64_t at = 0; at < filled; at += 2048) device.write(2048 + at, noise);
    Random random(1);
    return assess(device, {parse_goal("table=gpt")}, utc(), random);
  };
  const Assessment empty = expected(0);
  const Assessment full = expected(600000);
  CHECK(empty.files_bytes == full.files_bytes);
  CHECK(empty.expected_seconds - empty.seconds_by_places <
        (full.expected_seconds - full.seconds_by_places) / 20);
}

TEST_CASE("job: a disk that changed after the assessment is refused") {
  const support::Folder folder;
  MemoryDevice device(100000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x83, 2048, 30000);
  device.write(0, mbr);
  Random random(1);
  QuietProgress quiet;
  const Assessment assessment = assess(device, {parse_goal("table=gpt")}, utc(), random);
  support::put_entry(mbr, 1, 0x83, 50000, 3000);
  device.write(0, mbr);
  const auto before = device.clone();
  CHECK(support::code_of([&] {
          (void)run_job(device, assessment, {utc(), folder / "case"}, quiet);
        }) == ErrorCode::refused);
  CHECK(device.same_as(*before));
}

TEST_CASE("job: a case folder that holds something already is refused") {
  const support::Folder folder;
  MemoryDevice device(100000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x83, 2048, 30000);
  device.write(0, mbr);
  Random random(1);
  QuietProgress quiet;
  const Assessment assessment = assess(device, {parse_goal("table=gpt")}, utc(), random);
  std::filesystem::create_directories(folder / "case");
  std::ofstream(folder / "case/other") << "x";
  const auto before = device.clone();
  CHECK(support::code_of([&] {
          (void)run_job(device, assessment, {utc(), folder / "case"}, quiet);
        }) == ErrorCode::refused);
  CHECK(device.same_as(*before));
}

namespace {

// The sectors that hold bytes of files.
SectorSet contents_of(const Device& disk) {
  QuietProgress quiet;
  SectorSet out;
  for (const ManifestVolume& v : take_manifest(disk, utc(), quiet).volumes) {
    for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
      std::uint64_t left = (v.tree.valid_bytes(id) + disk.sector_size() - 1) / disk.sector_size();
      for (const SectorRange& e : v.tree.extents(id)) {
        const std::uint64_t count = std::min(e.count, left);
        left -= count;
        if (e.first < FileTree::hole && count > 0) out.add({v.start + e.first, count});
      }
    }
  }
  return out;
}

}  // namespace

TEST_CASE("job: before the first write, what stays where it is is read once") {
  std::uint64_t once = 0, guarded = 0;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    const support::Folder folder(support::Folder::Where::memory);
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    SectorSet stays = contents_of(disk);
    SectorSet changed;
    const Assessment assessment = scenario.assess(disk);
    QuietProgress quiet;
    {
      const auto done = disk.clone();
      (void)run_job(*done, assessment, support::case_in_memory(folder / "done"), quiet);
      const SectorSet after = contents_of(*done);
      SectorSet gone = stays;
      gone.remove(after);
      stays.remove(gone);
      for (std::uint64_t lba = 0; lba < disk.sectors(); ++lba) {
        lba = std::min(disk.next_data(lba), done->next_data(lba));
        if (lba < disk.sectors() && disk.read(lba) != done->read(lba)) changed.add({lba, 1});
      }
      stays.remove(changed);
    }
    JobOptions options = support::case_in_memory(folder / "places");
    options.proof = Proof::places;
    support::ReadNotes structures(disk);  // and what is read beside them in one piece
    const RehearsalResult rehearsed = rehearse_job(structures, assessment, options, quiet);
    // The plan says how much the way back keeps at most.
    CHECK(rehearsed.sectors <= assessment.sectors_to_write);
    // Of a volume in which nothing is written the structures are read for the record and for the
    // guard, and not for the rehearsal: all but the first sectors, which say what it is.
    constexpr std::uint64_t first = 16;
    for (const Partition& p : assessment.after.data_partitions()) {
      const Partition* was = assessment.before.find(p.number);
      if (was == nullptr || was->range() != p.range() || changed.first_overlap(p.range())) continue;
      support::ReadNotes needed(disk);
      const Window window(needed, p.range());
      const auto reader = open_volume(window, utc());
      if (reader == nullptr) continue;
      (void)reader->tree();
      (void)open_volume(window, utc())->owned();
      const auto end = structures.reads.lower_bound(p.range().end());
      for (auto it = structures.reads.lower_bound(p.start + first); it != end; ++it) {
        if (stays.first_overlap({it->first, 1})) continue;
        ++guarded;
        CHECK_MESSAGE(it->second <= needed.reads[it->first], "sector " << it->first);
      }
    }
    support::ReadNotes notes(disk);
    (void)rehearse_job(notes, assessment, support::case_in_memory(folder / "contents"), quiet);
    for (const auto& [lba, times] : notes.reads) {
      if (!stays.first_overlap({lba, 1}) || structures.reads.count(lba) != 0) continue;
      ++once;
      CHECK_MESSAGE(times == 1, "sector " << lba);
    }
  }
  MESSAGE(once << " sectors of contents, " << guarded << " of structures");
  CHECK(once > 20000);
  CHECK(guarded > 5000);
}

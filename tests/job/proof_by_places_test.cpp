// A job that compares by places: what it proves, and what it says that it doesn't.

#include <algorithm>
#include <filesystem>
#include <set>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

JobOptions by_places(const std::filesystem::path& folder) {
  JobOptions out = support::case_in_memory(folder);
  out.proof = Proof::places;
  return out;
}

// Somebody else's write: one byte of a sector becomes another as soon as the job writes.
class Meddled final : public Device {
 public:
  Meddled(MemoryDevice& disk, std::uint64_t sector)
      : Device(disk.sector_size(), disk.sectors(), disk.identity()), disk_(disk), sector_(sector) {}

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override { disk_.read(lba, out); }
  void do_write(std::uint64_t lba, ByteView data) override {
    disk_.write(lba, data);
    if (done_) return;
    done_ = true;
    Bytes there = disk_.read(sector_);
    there[7] ^= 0x20;
    disk_.write(sector_, there);
  }
  void do_flush() override { disk_.flush(); }

  MemoryDevice& disk_;
  std::uint64_t sector_;
  bool done_ = false;
};

// The first sector of the longest file on the disk.
std::uint64_t sector_of_a_file(const Device& disk) {
  QuietProgress quiet;
  const Manifest m = take_manifest(disk, utc(), quiet);
  std::uint64_t longest = 0;
  std::uint64_t out = 0;
  for (const ManifestVolume& v : m.volumes) {
    for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
      const auto extents = v.tree.extents(id);
      if (extents.empty() || v.tree.bytes(id) <= longest) continue;
      longest = v.tree.bytes(id);
      out = v.start + extents[0].first;
    }
  }
  REQUIRE(out > 0);
  return out;
}

}  // namespace

TEST_CASE("places: every rewrite of the list ends the same, compared either way, and goes back") {
  QuietProgress quiet;
  std::uint64_t placed = 0, files = 0;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    MemoryDevice original(scenario.sectors, scenario.sector_size);
    scenario.make(original);
    const Assessment a = scenario.assess(original);
    REQUIRE(a.in_reach());
    const support::Folder folder(support::Folder::Where::memory);
    const auto one = original.clone();
    const auto other = original.clone();
    const JobResult full = run_job(*one, a, support::case_in_memory(folder / "contents"), quiet);
    const JobResult quick = run_job(*other, a, by_places(folder / "places"), quiet);
    CHECK(full.comparison.proof == Proof::contents);
    CHECK(full.comparison.by_place == 0);
    CHECK(quick.comparison.proof == Proof::places);
    for (const Difference& d : quick.comparison.differences) MESSAGE(d.path << ": " << d.text);
    REQUIRE(full.sound());
    REQUIRE(quick.sound());
    CHECK(quick.files == full.files);
    CHECK(quick.comparison.planned_count == full.comparison.planned_count);
    CHECK(other->same_as(*one));
    placed += quick.comparison.by_place;
    files += quick.files;
    // What the case says is what the job said, and the page is made of it.
    const CaseRecord record = read_record(folder / "places", other.get());
    CHECK(record.outcome == Outcome::done);
    REQUIRE(record.comparison);
    CHECK(record.comparison->by_place == quick.comparison.by_place);
    CHECK(report_html(record).find("hashed before the change") == std::string::npos);
    // The manifest of places holds for the disk as it is.
    const Manifest then = load_manifest(folder / "places" / "after.manifest");
    CHECK(then.proof == Proof::places);
    const Comparison again = verify_disk(then, *other, utc(), quiet).comparison;
    for (const Difference& d : again.differences) MESSAGE(d.path << ": " << d.text);
    CHECK(again.equal());
    (void)revert_case(*other, load_case(folder / "places"), {}, quiet);
    CHECK(other->same_as(original));
  }
  MESSAGE(placed << " files and partitions by place, of " << files << " files");
  CHECK(placed > 0);
  CHECK(placed < files);
}

TEST_CASE("places: a byte that changes in place is found by contents; places says it wouldn't be") {
  QuietProgress quiet;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  MemoryDevice original(scenario.sectors, scenario.sector_size);
  scenario.make(original);
  const Assessment a = scenario.assess(original);
  const std::uint64_t sector = sector_of_a_file(original);
  const support::Folder folder(support::Folder::Where::memory);
  const auto one = original.clone();
  Meddled device(*one, sector);
  const JobResult full = run_job(device, a, support::case_in_memory(folder / "contents"), quiet);
  CHECK(full.comparison.count == 1);
  CHECK(full.comparison.differences.at(0).kind == DifferenceKind::content);
  const auto other = original.clone();
  Meddled again(*other, sector);
  const JobResult quick = run_job(again, a, by_places(folder / "places"), quiet);
  CHECK(quick.sound());
  // It says so before, and doesn't claim more afterwards.
  CHECK(assessment_text(a, {}, Proof::places).find("would not be") != std::string::npos);
  CHECK(job_text(a, quick, "case", {}).find("contents were read only") != std::string::npos);
  CHECK(job_text(a, quick, "case", {}).find("every hash") == std::string::npos);
  CHECK(job_text(a, quick, "case", {}).find("seal") == std::string::npos);
}

TEST_CASE("places: of a job that was cut off, what moved is compared by its hash all the same") {
  QuietProgress quiet;
  std::size_t tried = 0;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    MemoryDevice original(scenario.sectors, scenario.sector_size);
    scenario.make(original);
    const Assessment a = scenario.assess(original);
    const support::Folder folder(support::Folder::Where::memory);
    const auto whole = original.clone();
    FaultDevice counter(*whole, {});
    REQUIRE(run_job(counter, a, by_places(folder / "whole"), quiet).sound());
    const std::uint64_t sectors = counter.sectors_written();
    for (const std::uint64_t at : std::set<std::uint64_t>{(sectors + 1) / 2, sectors}) {
      CAPTURE(at);
      const auto disk = original.clone();
      FaultPlan plan;
      plan.cut_before = at;
      plan.keep = FaultPlan::Keep::some;
      plan.seed = at;
      const auto job = folder / ("cut" + std::to_string(at));
      {
        FaultDevice device(*disk, plan);
        CHECK(support::code_of([&] { (void)run_job(device, a, by_places(job), quiet); }) ==
              ErrorCode::cut_off);
      }
      const JobResult result = resume_case(*disk, load_case(job), quiet);
      for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
      CHECK(result.sound());
      CHECK(result.comparison.proof == Proof::places);
      CHECK(disk->same_as(*whole));
      ++tried;
    }
  }
  CHECK(tried > scenarios::all().size());
}

TEST_CASE("places: a disk is held against a part of what was recorded, and knows another disk") {
  QuietProgress quiet;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  MemoryDevice disk(scenario.sectors, scenario.sector_size);
  scenario.make(disk);
  const Manifest recorded = take_manifest(disk, utc(), quiet);
  REQUIRE(recorded.volumes.size() > 1);
  const unsigned first = recorded.volumes[0].number;
  const unsigned second = recorded.volumes[1].number;
  const Verification all = verify_disk(recorded, disk, utc(), quiet);
  CHECK(all.comparison.equal());
  const Verification part = verify_disk(recorded, disk, utc(), quiet, {second});
  CHECK(part.comparison.equal());
  CHECK(part.comparison.chosen);
  CHECK(part.now.volumes.size() == 1);
  // What differs in a part that isn't named isn't looked at.
  const std::uint64_t start = recorded.volumes[0].start;
  Bytes boot = disk.read(start);
  std::fill(boot.begin(), boot.end(), std::uint8_t{0});
  const auto spoilt = disk.clone();
  spoilt->write(start, boot);
  CHECK(verify_disk(recorded, *spoilt, utc(), quiet, {second}).comparison.equal());
  CHECK_FALSE(verify_disk(recorded, *spoilt, utc(), quiet, {first}).comparison.equal());
  CHECK_THROWS_AS((void)verify_disk(recorded, disk, utc(), quiet, {99}), const Error&);
}

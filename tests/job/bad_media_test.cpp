// Sectors that the device doesn't give, or doesn't take, anywhere on a disk: a job is refused with
// nothing written, or done and sound, or cut off and finished.

#include <algorithm>
#include <map>

#include <nuvrat/rewrite.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

using Tally = std::map<std::string, int>;

// Owned by a table or a volume's structures and files, now or afterwards; or nobody's.
std::uint64_t some_sector(const Device& disk, const Assessment& a, Random& random) {
  SectorSet from;
  switch (random.below(4)) {
    case 0:
      from = read_table(disk).owned;
      break;
    case 1:
      for (const Partition& p : a.before.data_partitions()) from.add({p.start, 64});
      break;
    case 2:
      for (const Step& step : a.steps) {
        const auto rewrite = make_rewrite(step, disk);
        Overlay overlay(disk);
        from = Engine::inspect(*rewrite, overlay, OwnedBy(step)).all_sectors();
        break;
      }
      break;
    default:
      break;
  }
  const auto ranges = from.ranges();
  if (ranges.empty()) return random.below(disk.sectors());
  const SectorRange range = ranges[random.below(ranges.size())];
  return std::min(disk.sectors() - 1, range.first + random.below(range.count));
}

void try_bad_sectors(const scenarios::Scenario& s, std::uint64_t seed, Tally& tally) {
  CAPTURE(s.name);
  CAPTURE(seed);
  Random random(seed);
  MemoryDevice disk(s.sectors, s.sector_size);
  s.make(disk);
  const auto original = disk.clone();
  FaultPlan plan;
  const bool writes = random.below(3) == 0;
  for (std::uint64_t n = 1 + random.below(3); n > 0; --n) {
    const std::uint64_t lba = some_sector(disk, s.assess(disk), random);
    CAPTURE(lba);
    (writes ? plan.bad_writes : plan.bad_reads).add({lba, 1});
  }
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  JobOptions options = support::case_in_memory(folder / "case");
  options.accept_unreadable = random.below(2) == 0;
  options.proof = random.below(2) == 0 ? Proof::places : Proof::contents;
  FaultDevice faulty(disk, plan);
  bool done = false;
  try {
    const Assessment a = s.assess(faulty);
    if (a.in_reach() && !a.steps.empty()) {
      const JobResult result = run_job(faulty, a, options, quiet);
      done = true;
      for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
      CHECK(result.comparison.equal());
      ++tally["done"];
    } else {
      ++tally["out of reach"];
    }
  } catch (const Error& e) {
    ++tally[name_of(e.code())];
    CHECK_FALSE(std::string(e.what()).empty());
    if (e.code() == ErrorCode::guard) FAIL(e.what());
    if (e.code() == ErrorCode::cut_off || e.code() == ErrorCode::not_compared) {
      // On a device that works it goes on to the end.
      const CaseFile job = load_case(folder / "case");
      (void)resume_case(disk, job, quiet);
      done = true;
    }
  }
  if (done) (void)revert_case(disk, load_case(folder / "case"), {}, quiet);
  CHECK(disk.same_as(*original));
}

}  // namespace

TEST_CASE("unreadable: sectors that can't be read or written, anywhere") {
  Tally tally;
  const std::uint64_t rounds = support::is_long() ? 40 : 3;
  for (const scenarios::Scenario& s : scenarios::all()) {
    if (s.sectors > 100000) continue;
    for (std::uint64_t round = 0; round < rounds; ++round)
      try_bad_sectors(s, support::seed(1000 * round + 7), tally);
  }
  std::string all;
  for (const auto& [what, n] : tally) all += " " + std::to_string(n) + " " + what + ",";
  MESSAGE(all);
  CHECK(tally.size() >= 4);
}

TEST_CASE("unreadable: one of a volume's first sectors stops no job that doesn't need it") {
  const scenarios::Scenario& scenario = scenarios::named("NTFS to the front");
  MemoryDevice disk(scenario.sectors, scenario.sector_size);
  scenario.make(disk);
  const std::uint64_t start = read_table(disk).layout.find(5)->start;
  FaultPlan plan;
  plan.bad_reads.add({start + 3, 1});  // where only a loader would be
  FaultDevice device(disk, plan);
  CHECK_FALSE(has_errors(survey_disk(device, utc(), true).all_findings()));
  Random random(1);
  const Assessment a = assess(device, {parse_goal("table=gpt")}, utc(), random);
  REQUIRE(a.in_reach());
  support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  CHECK(run_job(device, a, support::case_in_memory(folder / "case")).sound());
  CHECK(revert_case(device, load_case(folder / "case"), {}, quiet).equal());
}

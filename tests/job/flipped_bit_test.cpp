// One bit of one read comes out wrong, whichever read it is: memory, a cable, an adapter did that.
// A job that says that it is done has the right bytes on the disk and in the case; any other leaves
// a way back that needs no flag.

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/core.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
namespace fs = std::filesystem;

namespace {

struct Flips {
  std::uint64_t tried = 0, done = 0, kept_from_begin = 0, put_back = 0, reverted = 0;
};

// What a case keeps of files that the new format can't hold, by name.
std::map<std::string, std::string> left_behind(const fs::path& job) {
  std::map<std::string, std::string> out;
  std::error_code error;
  for (const auto& entry : fs::directory_iterator(job / "left-behind", error)) {
    std::ifstream in(entry.path(), std::ios::binary);
    out[entry.path().filename().string()].assign(std::istreambuf_iterator<char>(in), {});
  }
  return out;
}

class Flipping {
 public:
  explicit Flipping(const scenarios::Scenario& scenario)
      : scenario_(scenario), original_(scenario.sectors, scenario.sector_size) {
    scenario.make(original_);
  }

  // Reads of the job without a fault, from the assessment on.
  std::uint64_t reads() {
    const auto disk = original_.clone();
    FaultDevice device(*disk, {});
    const support::Folder folder(support::Folder::Where::memory);
    const Assessment a = scenario_.assess(device);
    (void)run_job(device, a, support::case_in_memory(folder / "case"), quiet_);
    wanted_ = support::manifest_of(*disk).seal();
    kept_ = left_behind(folder / "case");
    return device.reads();
  }

  void flip(std::uint64_t read, Flips& flips) {
    ++flips.tried;
    FaultPlan plan;
    plan.flip_read = read;
    plan.seed = read * 2654435761u;
    const auto disk = original_.clone();
    FaultDevice device(*disk, plan);
    const support::Folder folder(support::Folder::Where::memory);
    const fs::path job = folder / "case";
    std::optional<Assessment> a;
    bool sound = false;
    try {
      a = scenario_.assess(device);
      if (!a->in_reach()) {
        CHECK(disk->same_as(original_));
        ++flips.kept_from_begin;
        return;
      }
      sound = run_job(device, *a, support::case_in_memory(job), quiet_).sound();
    } catch (const Error& e) {
      CAPTURE(e.message());
      if (disk->same_as(original_)) {
        ++(device.writes() == 0 ? flips.kept_from_begin : flips.put_back);
        return;
      }
      REQUIRE(fs::exists(job));
      (void)revert_case(*disk, load_case(job), {}, quiet_);
      CHECK(disk->same_as(original_));
      ++flips.reverted;
      return;
    }
    if (sound) require_right(*disk, *a, job);
    (void)revert_case(*disk, load_case(job), {}, quiet_);
    CHECK(disk->same_as(original_));
    ++(sound ? flips.done : flips.reverted);
  }

 private:
  // The same plan on a disk that reads right leaves the same bytes; and it was the right plan.
  void require_right(const MemoryDevice& done, const Assessment& a, const fs::path& job) {
    const support::Folder folder(support::Folder::Where::memory);
    const auto again = original_.clone();
    (void)run_job(*again, a, support::case_in_memory(folder / "case"), quiet_);
    CHECK(done.same_as(*again));
    CHECK(support::manifest_of(done).seal() == wanted_);
    CHECK(left_behind(job) == kept_);
  }

  const scenarios::Scenario& scenario_;
  MemoryDevice original_;
  std::string wanted_;
  std::map<std::string, std::string> kept_;
  QuietProgress quiet_;
};

}  // namespace

TEST_CASE("flipped bit: one read gives one wrong bit, whichever: right bytes, or the way back") {
  Flips flips;
  Random random(support::seed(38));
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    Flipping job(scenario);
    const std::uint64_t reads = job.reads();
    const std::uint64_t some = support::is_long() ? reads : 6;
    for (std::uint64_t i = 0; i < std::min(some, reads); ++i) {
      const std::uint64_t read = support::is_long() ? i + 1 : 1 + random.below(reads);
      CAPTURE(read);
      job.flip(read, flips);
    }
  }
  MESSAGE(
      fmt::format("{} flipped bits: {} jobs done with the right bytes, {} never began, {} put "
                  "back by themselves, {} reverted",
                  flips.tried, flips.done, flips.kept_from_begin, flips.put_back, flips.reverted));
  CHECK(flips.done > 0);
  CHECK(flips.kept_from_begin > 0);
  CHECK(flips.put_back > 0);
}

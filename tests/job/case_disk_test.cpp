// A case knows its disk by what is on it, whatever the disk is called, however many copies of it
// there are, and whatever the case notes of them.

#include <filesystem>
#include <fstream>

#include <fmt/core.h>
#include <sys/stat.h>
#include <unistd.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::utc;
namespace fs = std::filesystem;

namespace {

// A job on an image in memory's file system, by the tool; names are free to change.
struct Bench {
  support::Folder folder{support::Folder::Where::memory};
  const scenarios::Scenario& scenario;
  std::string before;
  std::string tag_after;

  explicit Bench(const scenarios::Scenario& s = scenarios::all()[0]) : scenario(s) {
    scenarios::make_image(at("sdb"), scenario);
    before = support::fingerprint(at("sdb"));
  }
  [[nodiscard]] fs::path at(const std::string& name) const { return folder / name; }
  [[nodiscard]] std::string tag(const std::string& name) const {
    const auto device = open_device(at(name), {false, scenario.sector_size});
    return disk_tag(*device, read_table(*device));
  }
  [[nodiscard]] std::string goals() const {
    std::string out;
    for (const std::string& goal : scenario.goals) out += " " + goal;
    return out;
  }
  // Status of the tool; what it said is in `said`.
  int tool(const std::string& words) {
    const support::Ran ran = support::tool(words);
    said = ran.out + ran.errors;
    INFO(said);
    return ran.status;
  }
  int job(const std::string& disk, const std::string& name, const std::string& more = "") {
    return tool(fmt::format(
        "rewrite --timezone UTC --sector-size {} --case-in-memory --confirm {} --case {} {} {} {}",
        scenario.sector_size, tag(disk), at(name).string(), more, at(disk).string(), goals()));
  }
  int back(const std::string& disk, const std::string& job, const std::string& more = "") {
    std::string confirm;
    for (const auto& tag_now : {tag(disk), load_case(at(job)).assessment.tag}) {
      const int status = tool(fmt::format("revert {} --disk {} --confirm {} {}", at(job).string(),
                                          at(disk).string(), tag_now, more));
      if (said.find("this disk's tag is not") == said.npos) return status;
    }
    return -1;
  }
  [[nodiscard]] Outcome outcome(const std::string& disk, const std::string& job) const {
    const auto device = open_device(at(disk), {false, scenario.sector_size});
    return read_record(at(job), device.get()).outcome;
  }
  void copy(const std::string& from, const std::string& to) const {
    fs::copy_file(at(from), at(to), fs::copy_options::overwrite_existing);
  }
  std::string said;
};

}  // namespace

TEST_CASE("case's disk: renamed, cloned, away and back, another one under its name") {
  Bench bench;
  REQUIRE(bench.job("sdb", "case") == 0);
  bench.copy("sdb", "clone");
  bench.copy("sdb", "second");

  // The disk away, its clone put back; the disk comes back and can be put back as well.
  fs::rename(bench.at("sdb"), bench.at("drawer"));
  CHECK(bench.back("clone", "case") == 0);
  CHECK(support::fingerprint(bench.at("clone")) == bench.before);
  fs::rename(bench.at("drawer"), bench.at("sdb"));
  CHECK(bench.outcome("sdb", "case") == Outcome::done);
  CHECK(bench.outcome("clone", "case") == Outcome::reverted);
  CHECK_MESSAGE(bench.back("sdb", "case") == 0, bench.said);
  CHECK(support::fingerprint(bench.at("sdb")) == bench.before);
  CHECK(bench.outcome("sdb", "case") == Outcome::reverted);

  // The disk under another name, a stranger under its own.
  fs::rename(bench.at("second"), bench.at("sdc"));
  scenarios::make_image(bench.at("sdb"), scenarios::all()[2]);
  const std::string stranger = support::fingerprint(bench.at("sdb"));
  CHECK(bench.outcome("sdc", "case") == Outcome::done);
  CHECK(bench.tool(fmt::format("revert {} --confirm {}", bench.at("case").string(),
                               bench.tag("sdb"))) == 3);
  CHECK(support::fingerprint(bench.at("sdb")) == stranger);

  // A kill in the middle of its way back closes nothing.
  CHECK(bench.back("sdc", "case", "--fault cut=2") == 5);
  CHECK_MESSAGE(bench.back("sdc", "case") == 0, bench.said);
  CHECK(support::fingerprint(bench.at("sdc")) == bench.before);
  CHECK(bench.outcome("sdc", "case") == Outcome::reverted);
  CHECK(support::fingerprint(bench.at("sdb")) == stranger);
}

TEST_CASE("case's disk: copies at every point of a job, each finished or put back by one case") {
  int copies = 0;
  for (const char* name : {"MBR to GPT, 512", "FAT to NTFS and MBR to GPT, 4096", "mended FAT"}) {
    CAPTURE(std::string(name));
    Bench bench(scenarios::named(name));
    MemoryDevice original(bench.scenario.sectors, bench.scenario.sector_size);
    bench.scenario.make(original);
    const Assessment a = bench.scenario.assess(original);
    QuietProgress quiet;
    const auto job = bench.at("job");
    const auto done = original.clone();
    std::uint64_t sectors = 0;
    {
      FaultDevice device(*done, {});
      REQUIRE(run_job(device, a, support::case_in_memory(job), quiet).sound());
      sectors = device.sectors_written();
    }
    // The case is a finished one; each copy was cut off somewhere.
    Random random(copies + 1u);
    for (int i = 0; i < 24; ++i) {
      const auto copy = original.clone();
      FaultPlan plan;
      plan.cut_before = 1 + random.below(sectors);
      plan.seed = random.below(1000);
      FaultDevice device(*copy, plan);
      const support::Folder other(support::Folder::Where::memory);
      CHECK(code_of([&] {
              (void)run_job(device, a, support::case_in_memory(other / "job"), quiet);
            }) != ErrorCode::guard);
      const CaseFile file = load_case(job);
      CAPTURE(*plan.cut_before);
      CAPTURE(name_of(stage_of(file, *copy)));
      if (i % 2 == 0 && stage_of(file, *copy) != CaseStage::reverted) {
        CHECK(resume_case(*copy, file, quiet).sound());
        CHECK(copy->same_as(*done));
      }
      (void)revert_case(*copy, load_case(job), {}, quiet);
      CHECK(copy->same_as(original));
      ++copies;
    }
  }
  MESSAGE(copies << " copies");
}

TEST_CASE("case's disk: an older job isn't put back over a newer one, whatever is said") {
  Bench bench;
  REQUIRE(bench.job("sdb", "c1") == 0);
  const std::string after_first = support::fingerprint(bench.at("sdb"));
  ::sleep(1);  // a log's times are whole seconds
  REQUIRE(bench.tool(fmt::format(
              "rewrite --case-in-memory --confirm {} --case {} {} p1=ntfs --timezone UTC",
              bench.tag("sdb"), bench.at("c2").string(), bench.at("sdb").string())) == 0);
  const std::string after_second = support::fingerprint(bench.at("sdb"));
  for (const char* more : {"", "--discard-later-changes"}) {
    CHECK(bench.back("sdb", "c1", more) == 3);
    CHECK(support::fingerprint(bench.at("sdb")) == after_second);
  }
  CHECK(bench.said.find("would not end in the old disk") != std::string::npos);
  // Wherever the newer case is.
  fs::create_directory(bench.at("away"));
  fs::rename(bench.at("c2"), bench.at("away") / "c2");
  CHECK(bench.back("sdb", "c1", "--discard-later-changes") == 3);
  CHECK(bench.said.find("would not end in the old disk") != std::string::npos);
  CHECK(support::fingerprint(bench.at("sdb")) == after_second);
  CHECK(bench.back("sdb", "away/c2") == 0);
  CHECK(support::fingerprint(bench.at("sdb")) == after_first);
  // A case of another disk beside it says nothing, even of a twin.
  bench.copy("sdb", "twin");
  ::sleep(1);
  REQUIRE(bench.tool(fmt::format("rewrite --case-in-memory --confirm {} --case {} {} p1=ntfs",
                                 bench.tag("twin"), bench.at("c3").string(),
                                 bench.at("twin").string())) == 0);
  CHECK_MESSAGE(bench.back("sdb", "c1") == 0, bench.said);
  CHECK(support::fingerprint(bench.at("sdb")) == bench.before);
}

TEST_CASE("case's disk: what is prepared in a case's folder isn't followed") {
  Bench bench;
  REQUIRE(bench.job("sdb", "case", "--fault cut=3") == 5);
  bench.copy("sdb", "disk");
  const auto try_both = [&](const char* what) {
    CAPTURE(std::string(what));
    const std::string was = support::fingerprint(bench.at("sdb"));
    const std::string other = support::fingerprint(bench.at("disk"));
    for (const char* verb : {"resume", "revert"}) {
      CHECK(bench.tool(fmt::format("{} {} --confirm {}", verb, bench.at("case").string(),
                                   bench.tag("sdb"))) == 3);
      CHECK(support::fingerprint(bench.at("sdb")) == was);
      CHECK(support::fingerprint(bench.at("disk")) == other);
    }
    CHECK(bench.tool(fmt::format("report {} -o {}", bench.at("case").string(),
                                 bench.at("page.html").string())) == 3);
  };
  const fs::path job = bench.at("case");
  for (const char* name : {"after.manifest", "result.json", "left-behind", "log2.jsonl"}) {
    fs::create_symlink(bench.at("disk"), job / name);
    try_both(name);
    fs::remove(job / name);
  }
  fs::create_hard_link(bench.at("disk"), job / "after.manifest");
  try_both("a second name of a disk");
  fs::remove(job / "after.manifest");
  fs::permissions(job, fs::perms::all);
  try_both("a folder for everybody");
  fs::permissions(job, fs::perms::owner_all);
  if (::geteuid() == 0) {
    REQUIRE(::chown((job / "before.manifest").c_str(), 12345, 12345) == 0);
    try_both("a file of somebody else");
    REQUIRE(::chown((job / "before.manifest").c_str(), 0, 0) == 0);
    REQUIRE(::chown(job.c_str(), 12345, 12345) == 0);
    try_both("a folder of somebody else");
    REQUIRE(::chown(job.c_str(), 0, 0) == 0);
  }
  CHECK_MESSAGE(
      bench.tool(fmt::format("resume {} --confirm {}", job.string(), bench.tag("sdb"))) == 0,
      bench.said);
}

TEST_CASE("case's disk: without its record of the files a job goes back, and says what it can't") {
  for (const bool lost : {false, true}) {
    for (const bool finished : {false, true}) {
      CAPTURE(lost);
      CAPTURE(finished);
      Bench bench;
      REQUIRE(bench.job("sdb", "case", finished ? "" : "--fault cut=3") == (finished ? 0 : 5));
      const fs::path record = bench.at("case") / "before.manifest";
      if (lost) {
        fs::remove(record);
      } else {
        std::ofstream(record, std::ios::in | std::ios::out) << "{}";
      }
      const std::string was = support::fingerprint(bench.at("sdb"));
      for (int time = 0; time < 2; ++time) {
        const int status = bench.tool(
            fmt::format("resume {} --confirm {}", bench.at("case").string(), bench.tag("sdb")));
        CHECK(status == (finished ? 1 : 3));
        CHECK(support::fingerprint(bench.at("sdb")) == was);
        CHECK(bench.said.find("record of") != std::string::npos);
        CHECK(bench.said.find("nuvrat resume") == std::string::npos);
      }
      const int back = bench.back("sdb", "case");
      CHECK((back == 1 || (back == 0 && !finished)));  // not compared; or nothing had been written
      CHECK(support::fingerprint(bench.at("sdb")) == bench.before);
    }
  }
}

TEST_CASE("case's disk: the folder or the image goes away in the middle") {
  const scenarios::Scenario& scenario = scenarios::named("FAT to NTFS and MBR to GPT, 4096");
  int put_back = 0;
  for (const char* stage : {"prepare", "switch", "settle", "comparing"}) {
    for (const int nth : {1, 2}) {
      Bench bench(scenario);
      const auto device = open_device(bench.at("sdb"), {true, scenario.sector_size});
      const Assessment a = scenario.assess(*device);
      int seen = 0;
      support::AtStage gone([&](std::string_view name) {
        if (name.find(stage) != name.npos && ++seen == nth) fs::remove_all(bench.at("case"));
      });
      try {
        (void)run_job(*device, a, support::case_in_memory(bench.at("case")), gone);
        CHECK(seen < nth);
      } catch (const Error& e) {
        CAPTURE(e.message());
        CHECK(e.message().find("folder is gone") != std::string::npos);
        CHECK(e.remedy().find("nuvrat re") == std::string::npos);
        CHECK(support::fingerprint(bench.at("sdb")) == bench.before);
        ++put_back;
      }
    }
  }
  CHECK(put_back >= 4);
  for (const bool longer : {false, true}) {
    for (const char* stage : {"recording", "prepare", "comparing"}) {
      CAPTURE(std::string(stage));
      Bench bench;
      bench.copy("sdb", "other");
      const std::string other = support::fingerprint(bench.at("other"));
      const auto device = open_device(bench.at("sdb"), {true});
      const Assessment a = bench.scenario.assess(*device);
      support::AtStage act([&](std::string_view name) {
        if (name.find(stage) == name.npos) return;
        if (longer) {
          fs::resize_file(bench.at("sdb"), device->bytes() + 4096);
        } else if (fs::exists(bench.at("other"))) {
          fs::rename(bench.at("other"), bench.at("sdb"));
        }
      });
      const ErrorCode code = code_of(
          [&] { (void)run_job(*device, a, support::case_in_memory(bench.at("case")), act); });
      const bool before = std::string_view(stage) == "recording";
      CHECK(code == (before ? ErrorCode::busy : ErrorCode::not_compared));
      if (!longer) CHECK(support::fingerprint(bench.at("sdb")) == other);
    }
  }
}

#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/core.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::utc;

namespace {

struct Done {
  support::Folder folder;
  QuietProgress quiet;
  std::unique_ptr<MemoryDevice> original, disk;
  Assessment assessment;
  JobOptions options;

  explicit Done(Undo undo = Undo::full, bool run = true) {
    const scenarios::Scenario& scenario = scenarios::all()[0];
    original = support::disk(scenario.sectors, scenario.sector_size);
    scenario.make(*original);
    disk = original->clone();
    assessment = scenario.assess(*disk);
    options.read = utc();
    options.case_folder = folder / "case";
    options.undo = undo;
    if (run) REQUIRE(run_job(*disk, assessment, options, quiet).sound());
  }
  [[nodiscard]] CaseFile file() const { return load_case(options.case_folder); }
};

// What the way back is refused with; nothing is written.
std::string refusal_of(Done& job) {
  const auto was = job.disk->clone();
  std::string text;
  try {
    (void)revert_case(*job.disk, job.file(), {}, job.quiet);
    FAIL("put back");
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::refused);
    text = e.message();
  }
  CHECK(job.disk->same_as(*was));
  return text;
}

class StopAt final : public Progress {
 public:
  explicit StopAt(std::string stage) : stage_(std::move(stage)) {}
  void stage(std::string_view name, std::uint64_t) override {
    stopped_ |= name.find(stage_) != name.npos;
  }
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return stopped_; }

 private:
  std::string stage_;
  bool stopped_ = false;
};

}  // namespace

TEST_CASE("undo: after a rewrite the way back is exact to the byte, and only once") {
  Done job;
  CHECK(stage_of(job.file(), *job.disk) == CaseStage::finished);
  const RevertResult result = revert_case(*job.disk, job.file(), {}, job.quiet);
  CHECK(result.exact);
  REQUIRE(result.compared.has_value());
  CHECK(result.compared->recorded > 0);
  CHECK(result.compared->same == result.compared->recorded);
  CHECK(result.tag_after == job.assessment.tag);
  CHECK(job.disk->same_as(*job.original));
  CHECK(stage_of(job.file(), *job.disk) == CaseStage::reverted);
  CHECK(code_of([&] { (void)resume_case(*job.disk, job.file(), job.quiet); }) ==
        ErrorCode::refused);
  (void)revert_case(*job.disk, job.file(), {}, job.quiet);  // again: nothing to do
  CHECK(job.disk->same_as(*job.original));
}

TEST_CASE("undo: with live sectors only, the old disk is back though free sectors are not") {
  Done job(Undo::live);
  const auto full =
      std::filesystem::file_size(std::filesystem::path(job.options.case_folder) / "undo.journal");
  CHECK(full > 0);
  CHECK_FALSE(revert_case(*job.disk, job.file(), {}, job.quiet).exact);
  CHECK(read_table(*job.disk).layout == job.assessment.before);
  CHECK_FALSE(job.disk->same_as(*job.original));  // the loader code between is gone
}

TEST_CASE("undo: only what is kept needs room") {
  const scenarios::Scenario& scenario = scenarios::all()[0];
  MemoryDevice disk(scenario.sectors, scenario.sector_size);
  scenario.make(disk);
  const Assessment assessment = scenario.assess(disk);
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  JobOptions options = support::case_in_memory(folder / "full");
  const std::uint64_t full = rehearse_job(disk, assessment, options, quiet).journal_bytes;
  options.case_folder = folder / "live";
  options.undo = Undo::live;
  const std::uint64_t live = rehearse_job(disk, assessment, options, quiet).journal_bytes;
  // A GPT of 67 sectors, where nothing is: of all but LBA 0 the checksums are kept.
  CHECK(full - live == 66 * (512 - 4));
}

TEST_CASE("undo: with live sectors only, every rewrite's disk is back with every file") {
  std::map<support::WayBack, int> ways;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    MemoryDevice original(scenario.sectors, scenario.sector_size);
    scenario.make(original);
    const Findings before = survey_disk(original, utc(), true).all_findings();
    const auto disk = original.clone();
    const support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    JobOptions options = support::case_in_memory(folder / "case");
    options.undo = Undo::live;
    const Manifest recorded = take_manifest(original, utc(), quiet);
    const Assessment assessment = scenario.assess(*disk);
    JobOptions only = support::case_in_memory(folder / "rehearsed");
    only.undo = Undo::live;
    const RehearsalResult rehearsed = rehearse_job(*disk, assessment, only, quiet);
    REQUIRE(run_job(*disk, assessment, options, quiet).sound());
    // What was said to be enough, beside the plan, was.
    const auto size_of = [&](const char* name) {
      return std::filesystem::file_size(folder / "case" / name);
    };
    CHECK(size_of("undo.journal") <=
          rehearsed.journal_bytes + size_of("assessment.json") + size_of("steps.bin"));
    Random random(3);
    for (int i = 0; i < 8; ++i)
      ++ways[support::use_what_was_given_up(original, *disk, load_case(folder / "case"), random)];
    (void)revert_case(*disk, load_case(folder / "case"), {}, quiet);
    const Comparison c = compare(recorded, take_manifest(*disk, utc(), quiet));
    for (const Difference& d : c.differences) MESSAGE(d.number << " " << d.path << ": " << d.text);
    CHECK(c.equal());
    // What was free may show what was written there: a GPT that nobody reads.
    for (const Finding& f : survey_disk(*disk, utc(), true).all_findings()) {
      const bool known = find_code(before, f.code) != nullptr || f.code == Rule::mbr_gpt_remains;
      CHECK_MESSAGE((known || f.severity != Severity::error), f.text);
    }
  }
  CHECK(ways[support::WayBack::refused] > 0);
  MESSAGE("given up and used since: " << ways[support::WayBack::whole] << " went back whole, "
                                      << ways[support::WayBack::refused] << " refused to");
}

TEST_CASE("undo: a disk written to since is refused with what changed, unless told otherwise") {
  Done job;
  std::string changed;
  SUBCASE("in a file") {
    const Window window(*job.disk, {64, 9600});
    const auto reader = open_volume(window, utc());
    FileTree::Id some = 1;
    const FileTree tree = reader->tree();
    while (tree.is_directory(some) || tree.extents(some).empty()) ++some;
    job.disk->write(64 + tree.extents(some)[0].first, Bytes(512, 'x'));
    changed = tree.path(some);
    CHECK(refusal_of(job).find(changed) != std::string::npos);
  }
  SUBCASE("in the table") {
    job.disk->write(5, Bytes(512, 'x'));
    CHECK(refusal_of(job).find("sector 5") != std::string::npos);
  }
  const RevertOptions anyway{.discard_later_changes = true};
  const RevertResult result = revert_case(*job.disk, job.file(), anyway, job.quiet);
  CHECK(read_table(*job.disk).layout == job.assessment.before);
  // The job didn't write the file, so it isn't what comes back, and that is said.
  REQUIRE(result.compared.has_value());
  CHECK(result.compared->count == (changed.empty() ? 0 : 1));
  CHECK(result.equal() == changed.empty());
  CHECK(revert_text(job.file(), result, TextStyle()).find(changed) != std::string::npos);
}

TEST_CASE("undo: after a job that was cut off, the disk is read once it was put back") {
  for (const bool whole : {true, false}) {
    Done job(Undo::full, false);
    const auto original = job.disk->clone();
    FaultPlan plan;
    plan.cut_before = 40;
    FaultDevice cut(*job.disk, plan);
    CHECK(code_of([&] { (void)run_job(cut, job.assessment, job.options, job.quiet); }) ==
          ErrorCode::cut_off);
    if (!whole)
      std::filesystem::remove(std::filesystem::path(job.options.case_folder) / "before.manifest");
    const RevertResult result = revert_case(*job.disk, job.file(), {}, job.quiet);
    CHECK(job.disk->same_as(*original));
    CHECK(result.compared.has_value() == whole);
    const std::string text = revert_text(job.file(), result, TextStyle());
    CHECK((text.find("as recorded before the job") != std::string::npos) == whole);
    CHECK((text.find("not compared (the case holds no record") != std::string::npos) == !whole);
  }
}

TEST_CASE("undo: what no file shows of a deleted partition stops the way back, too") {
  Done job(Undo::full, false);
  Random random(1);
  unsigned number = 0;
  for (const Partition& p : read_table(*job.disk).layout.partitions) {
    if (p.start == 64) number = p.number;
  }
  const Goal gone = parse_goal(fmt::format("p{}=gone", number));
  job.assessment = assess(*job.disk, {gone}, utc(), random);
  REQUIRE(run_job(*job.disk, job.assessment, job.options, job.quiet).sound());
  // The second FAT, by the boot sector; its partition is nobody's now.
  const Bytes boot = job.disk->read(64);
  const std::uint64_t second = 64 + support::little(boot, 14, 2) + support::little(boot, 22, 2);
  job.disk->write(second, Bytes(512, 'x'));
  CHECK(refusal_of(job).find("would be damaged") != std::string::npos);
  (void)revert_case(*job.disk, job.file(), {.discard_later_changes = true}, job.quiet);
  CHECK(read_table(*job.disk).layout == job.assessment.before);
}

TEST_CASE("undo: another disk is not taken for the one of the case") {
  Done job;
  MemoryDevice other(12345, 512);
  CHECK(code_of([&] { (void)revert_case(other, job.file(), {}, job.quiet); }) ==
        ErrorCode::refused);
  MemoryDevice blank(job.disk->sectors(), 512);
  CHECK(code_of([&] { (void)revert_case(blank, job.file(), {}, job.quiet); }) ==
        ErrorCode::refused);
  CHECK(code_of([&] { (void)load_case(job.folder.path()); }) == ErrorCode::words);
}

TEST_CASE("undo: a damaged journal is not used") {
  Done job;
  const auto path = std::filesystem::path(job.options.case_folder) / "undo.journal";
  const auto size = std::filesystem::file_size(path);
  std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
  SUBCASE("its head") {
    file.seekp(9);
  }
  SUBCASE("a record in the middle") {
    file.seekp(static_cast<std::streamoff>(size / 2));
  }
  file.put('\x5A');
  file.close();
  const auto before = job.disk->clone();
  try {
    (void)revert_case(*job.disk, job.file(), {}, job.quiet);
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::file);
  }
  CHECK(job.disk->same_as(*before));
}

TEST_CASE("cancel: before the switch the disk is as it was, after it the rewrite is finished") {
  Done job(Undo::full, false);
  SUBCASE("while files are read") {
    StopAt stop("recording");
    CHECK(code_of([&] { (void)run_job(*job.disk, job.assessment, job.options, stop); }) ==
          ErrorCode::cancelled);
    CHECK(job.disk->same_as(*job.original));
  }
  SUBCASE("while it prepares") {
    StopAt stop("prepare");
    CHECK(code_of([&] { (void)run_job(*job.disk, job.assessment, job.options, stop); }) ==
          ErrorCode::cancelled);
    CHECK(job.disk->same_as(*job.original));
  }
  SUBCASE("after the switch") {
    StopAt stop("settle");
    CHECK(run_job(*job.disk, job.assessment, job.options, stop).sound());
    CHECK(read_table(*job.disk).layout == job.assessment.after);
  }
}

TEST_CASE("bad device: a failing write before the switch leaves the disk as it was") {
  Done job(Undo::full, false);
  FaultPlan plan;
  plan.bad_writes.add({20, 1});
  FaultDevice device(*job.disk, plan);
  const ErrorCode code =
      code_of([&] { (void)run_job(device, job.assessment, job.options, job.quiet); });
  // Sector 20 can't be put back either: what it held is still there, as it was never written.
  CHECK((code == ErrorCode::device_write || code == ErrorCode::cut_off));
  CHECK(read_table(*job.disk).layout == job.assessment.before);
}

TEST_CASE("bad device: gone at any moment, the disk is the old one or the new one") {
  for (std::uint64_t operation = 1; operation < 1200; operation += 37) {
    Done job(Undo::full, false);
    FaultPlan plan;
    plan.vanish_before = operation;
    FaultDevice device(*job.disk, plan);
    try {
      (void)run_job(device, job.assessment, job.options, job.quiet);
    } catch (const Error&) {
      CHECK(device.dead());
      const Layout now = read_table(*job.disk).layout;
      CHECK((now == job.assessment.before || now == job.assessment.after));
    }
  }
}

TEST_CASE("bad media: unreadable contents are named, agreed to, and the same afterwards") {
  Done job(Undo::full, false);
  const Window window(*job.disk, {64, 9600});
  const auto reader = open_volume(window, utc());
  const FileTree& tree = reader->tree();
  FileTree::Id some = 1;
  while (tree.is_directory(some) || tree.bytes(some) < 3000) ++some;
  FaultPlan plan;
  plan.bad_reads.add({64 + tree.extents(some)[0].first + 1, 1});
  FaultDevice device(*job.disk, plan);
  try {
    (void)run_job(device, job.assessment, job.options, job.quiet);
    FAIL("went on");
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::refused);
    CHECK(e.message().find(tree.path(some) + " at offset 512") != std::string::npos);
  }
  CHECK(job.disk->same_as(*job.original));
  job.options.accept_unreadable = true;
  job.options.case_folder = job.folder / "again";
  const JobResult result = run_job(device, job.assessment, job.options, job.quiet);
  CHECK(result.sound());
  CHECK(result.unreadable == 1);
  // What can be read again on another device is no difference, and not said to be the same; what
  // can't be read any more is one.
  const CaseFile done = load_case(job.options.case_folder);
  const Manifest before = load_manifest(std::filesystem::path(done.folder) / "before.manifest");
  const Comparison whole = verify_disk(before, *job.disk, utc(), job.quiet).comparison;
  CHECK(whole.equal());
  CHECK(whole.partial());
  CHECK(whole.same == whole.recorded - 1);
  const Manifest now = take_manifest(*job.disk, utc(), job.quiet);
  const Comparison less = verify_disk(now, device, utc(), job.quiet).comparison;
  CHECK(less.count == 1);
  CHECK(less.differences[0].text.find("can't be read now") != std::string::npos);
  const RevertResult back = revert_case(*job.disk, done, {}, job.quiet);
  CHECK(back.sound());
  CHECK(job.disk->same_as(*job.original));
}

TEST_CASE("bad media: an unreadable structure is refused with sector and path") {
  Done job(Undo::full, false);
  const Window window(*job.disk, {64, 9600});
  FaultPlan plan;
  Rule code{};
  SUBCASE("a FAT") {
    code = Rule::fat_unreadable;
    plan.bad_reads.add({66, 1});
  }
  SUBCASE("a root folder") {
    code = Rule::volume_unreadable;
    plan.bad_reads.add({64 + 1 + 2 * 19 + 3, 1});
  }
  FaultDevice device(*job.disk, plan);
  Random random(1);
  const Assessment assessment = assess(device, job.assessment.goals, utc(), random);
  REQUIRE_FALSE(assessment.in_reach());
  CHECK(assessment.obstacles[0].finding == code);
  CHECK(assessment.obstacles[0].text.find(
            "sector " + std::to_string(plan.bad_reads.ranges()[0].first)) != std::string::npos);
}

TEST_CASE("lost case: the disk itself shows what is left to do") {
  Done job(Undo::full, false);
  const auto whole = job.original->clone();
  REQUIRE(run_job(*whole, job.assessment, job.options, job.quiet).sound());
  for (const std::uint64_t cut : {68u, 69u, 70u}) {  // both EBRs, the last write of LBA 0
    const auto disk = job.original->clone();
    FaultPlan plan;
    plan.cut_before = cut;
    plan.keep = FaultPlan::Keep::none;
    FaultDevice device(*disk, plan);
    job.options.case_folder = job.folder / std::to_string(cut);
    CHECK(code_of([&] { (void)run_job(device, job.assessment, job.options, job.quiet); }) ==
          ErrorCode::cut_off);
    CHECK(find_code(read_table(*disk).findings, Rule::table_settle_unfinished) != nullptr);
    const auto step = find_unfinished(*disk);
    REQUIRE(step);
    finish_unfinished(*disk, *step, job.quiet);
    CHECK(disk->same_as(*whole));
    CHECK_FALSE(find_unfinished(*disk));
  }
  CHECK_FALSE(find_unfinished(*job.original));
}

TEST_CASE("fault device: a plan in words") {
  const FaultPlan plan =
      parse_fault_plan("cut=12,keep=none,seed=3,bad-read=100+8,bad-write=7,vanish=50,delay=20");
  CHECK(plan.cut_before == 12);
  CHECK(plan.keep == FaultPlan::Keep::none);
  CHECK(plan.bad_reads.count() == 8);
  CHECK(plan.bad_writes.contains({7, 1}));
  CHECK(plan.vanish_before == 50);
  for (const char* wrong : {"cut", "cut=x", "keep=half", "dance=1", "bad-read=1+", "cut=1,,"}) {
    CHECK(code_of([wrong] { (void)parse_fault_plan(wrong); }) == ErrorCode::words);
  }
  MemoryDevice base(10, 512);
  FaultDevice device(base, {});
  device.write(3, Bytes(512, 1));
  CHECK(device.read(3) == Bytes(512, 1));
  CHECK(all_zero(base.read(3)));  // still in the cache that a power cut loses
  device.flush();
  CHECK(base.read(3) == Bytes(512, 1));
}

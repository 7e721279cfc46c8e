// The promise around the sector path: descriptors, outputs, signals, the journal, the disk's
// identity, a device that lies. Each of these has been seen to break it.

#include <algorithm>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <map>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/wait.h>
#include <unistd.h>

#include "orrelune.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::utc;

namespace {

namespace fs = std::filesystem;

std::string tag_now(const fs::path& image) {
  const auto device = open_device(image);
  return disk_tag(*device, read_table(*device));
}

// A job in a folder of its own, on a disk in memory.
struct Job {
  explicit Job(const std::string& word = "table=gpt",
               const scenarios::Scenario& scenario = scenarios::all()[0]) {
    disk = support::disk(scenario.sectors, scenario.sector_size);
    scenario.make(*disk);
    original = disk->clone();
    Random random(1);
    assessment = assess(*disk, {parse_goal(word)}, utc(), random);
    options.read = utc();
    options.case_folder = folder / "case";
  }
  void run() {
    REQUIRE(run_job(*disk, assessment, options, quiet).sound());
    after = disk->clone();
  }
  [[nodiscard]] bool refused() {
    return code_of([this] { (void)run_job(*disk, assessment, options, quiet); }) ==
           ErrorCode::refused;
  }
  [[nodiscard]] fs::path path(const char* name) const { return folder / "case" / name; }

  support::Folder folder;
  QuietProgress quiet;
  std::unique_ptr<MemoryDevice> disk, original, after;
  Assessment assessment;
  JobOptions options;
};

std::string bytes_of(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

void put_bytes(const fs::path& path, const std::string& bytes) {
  std::ofstream(path, std::ios::binary | std::ios::trunc) << bytes;
}

}  // namespace

TEST_CASE("promise: with each of descriptors 0 to 2 closed, no command's text lands on the disk") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  std::size_t tries = 0;
  for (const char* closed : {"<&-", ">&-", "2>&-", "<&- >&-", ">&- 2>&-", "<&- >&- 2>&-"}) {
    CAPTURE(std::string(closed));
    scenarios::make_image(image, scenarios::all()[0]);
    const std::string before = support::fingerprint(image);
    const std::string tag = tag_now(image);
    const auto run = [&](const std::string& words) {
      ++tries;
      const auto ran = support::run(fmt::format("{} {} {}", NUVRAT_TOOL, words, closed));
      return ran.status;
    };
    const std::string disk = image.string();
    for (const std::string& words :
         {"survey " + disk, "check " + disk, "assess " + disk + " table=gpt",
          "survey --json " + disk,
          fmt::format("manifest --overwrite -o {} {}", (folder / "m").string(), disk),
          "rewrite " + disk + " table=gpt"})
      (void)run(words);
    CHECK(support::fingerprint(image) == before);
    const auto job = folder / fmt::format("case{}", tries);
    CHECK(run(fmt::format("rewrite --confirm {} --case {} {} table=gpt", tag, job.string(),
                          disk)) == 0);
    CHECK(read_table(*open_device(image)).layout.kind == TableKind::gpt);
    CHECK(read_table(*open_device(image)).findings.empty());
    CHECK(run(fmt::format("revert --confirm {} {}", tag_now(image), job.string())) == 0);
    CHECK(support::fingerprint(image) == before);
  }
  MESSAGE(tries << " commands");
}

TEST_CASE("promise: no output goes over a disk, under whatever name") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  const auto other = folder / "other.img";
  scenarios::make_image(other, scenarios::all()[15]);  // a volume without a table
  fs::create_symlink(image, folder / "symbolic");
  fs::create_hard_link(image, folder / "hard");
  const std::string before = support::fingerprint(image);
  const std::string beside = support::fingerprint(other);
  const std::string tag = tag_now(image);
  const auto job = folder / "case";
  REQUIRE(support::tool(fmt::format("rewrite --confirm {} --case {} {} table=gpt", tag,
                                    job.string(), image.string()))
              .status == 0);
  const std::string done = support::fingerprint(image);
  std::size_t tries = 0;
  for (const fs::path& target : {image, folder / "symbolic", folder / "hard", other}) {
    for (const char* overwrite : {"", "--overwrite"}) {
      for (const std::string& words :
           {fmt::format("manifest -o {} {}", target.string(), image.string()),
            fmt::format("manifest -o {} --events {} {}", (folder / "new").string(), target.string(),
                        image.string()),
            fmt::format("report -o {} {}", target.string(), job.string()),
            fmt::format("rewrite --confirm {} --events {} {} table=mbr", tag_now(image),
                        target.string(), image.string()),
            fmt::format("revert --confirm {} --events {} {}", tag_now(image), target.string(),
                        job.string())}) {
        ++tries;
        const auto ran = support::tool(words + " " + overwrite);
        CHECK_MESSAGE(ran.status == 3, words, ran.errors);
      }
    }
    CHECK(support::fingerprint(image) == done);
    CHECK(support::fingerprint(other) == beside);
  }
  MESSAGE(tries << " outputs aimed at a disk, none written");
  // An ordinary file is replaced only when asked; a pipe and standard output are written straight.
  put_bytes(folder / "note", "mine");
  CHECK(support::tool(fmt::format("manifest -o {} {}", (folder / "note").string(), image.string()))
            .status == 3);
  CHECK(bytes_of(folder / "note") == "mine");
  const auto straight = support::tool("manifest -o - " + image.string());
  CHECK(straight.status == 0);
  CHECK(straight.out.rfind("{", 0) == 0);
  CHECK(support::run(fmt::format("{} manifest -o /dev/null {} && test -c /dev/null", NUVRAT_TOOL,
                                 image.string()))
            .status == 0);
  CHECK(support::run(fmt::format("{} survey {} > /dev/full", NUVRAT_TOOL, image.string())).status ==
        4);
  CHECK(support::run(fmt::format("{} survey {} | head -1", NUVRAT_TOOL, image.string())).status ==
        0);
}

TEST_CASE("promise: a device that says it wrote, and did not, is noticed before the next phase") {
  std::uint64_t writes = 0, flushes = 0;
  for (const std::size_t scenario : {0u, 4u, 8u, 13u, 16u}) {
    CAPTURE(scenario);
    const auto& s = scenarios::all()[scenario];
    const auto pristine = support::disk(s.sectors, s.sector_size);
    s.make(*pristine);
    const auto attempt = [&](const FaultPlan& plan, FaultDevice** out, MemoryDevice& disk,
                             const fs::path& folder) {
      static std::unique_ptr<FaultDevice> device;
      device = std::make_unique<FaultDevice>(disk, plan);
      *out = device.get();
      QuietProgress quiet;
      JobOptions options;
      options.read = utc();
      options.case_folder = folder;
      const Assessment a = s.assess(disk);
      try {
        return run_job(*device, a, options, quiet).sound() ? 0 : 1;
      } catch (const Error& e) {
        return e.code() == ErrorCode::cut_off || e.code() == ErrorCode::not_compared ? 5 : 4;
      }
    };
    const support::Folder folder;
    FaultDevice* device = nullptr;
    const auto whole = pristine->clone();
    REQUIRE(attempt({}, &device, *whole, folder / "whole") == 0);
    const std::uint64_t all_writes = device->writes();
    const std::uint64_t all_flushes = device->flushes();
    for (std::uint64_t n = 1; n <= all_writes + all_flushes; ++n) {
      // Of thousands of writes in a row a part, each flush, and all near the end.
      if (n + 12 < all_writes && n % std::max<std::uint64_t>(all_writes / 40, 1) != 0) continue;
      CAPTURE(n);
      FaultPlan plan;
      if (n <= all_writes) plan.drop_write = n;
      if (n > all_writes) plan.drop_flush = n - all_writes;
      (n <= all_writes ? writes : flushes) += 1;
      const auto disk = pristine->clone();
      const auto job = folder / fmt::format("case{}", n);
      const int status = attempt(plan, &device, *disk, job);
      // Never done and sound on a disk that isn't the new one.
      if (status == 0) {
        const Journal journal = Journal::open(job / "undo.journal");
        CHECK(journal.strange_sectors(*disk, true).empty());
        CHECK_FALSE(has_errors(survey_disk(*disk, utc(), true).all_findings()));
      }
      if (fs::exists(job / "undo.journal")) {
        QuietProgress quiet;
        (void)revert_case(*disk, load_case(job), {}, quiet);
      }
      CHECK(disk->same_as(*pristine));
    }
  }
  MESSAGE(writes << " writes and " << flushes << " flushes dropped, one at a time");
}

TEST_CASE("promise: a journal damaged at any record, or shortened, is never taken for another") {
  Job job("p1=ntfs", scenarios::named("FAT to NTFS, with its type"));
  job.run();
  const std::string whole = bytes_of(job.path("undo.journal"));
  // Where records begin, by docs/formats/undo-journal.md.
  std::vector<std::size_t> begins;
  for (std::size_t at = 32; at < whole.size();) {
    begins.push_back(at);
    std::uint64_t payload = 0;
    for (std::size_t i = 8; i > 0; --i)
      payload = payload << 8 | static_cast<std::uint8_t>(whole[at + 40 + i - 1]);
    at += 56 + payload;
  }
  std::size_t tries = 0, refused = 0;
  const auto attempt = [&](const std::string& bytes) {
    ++tries;
    put_bytes(job.path("undo.journal"), bytes);
    const auto disk = job.after->clone();
    bool said = true;
    try {
      const RevertResult result = revert_case(*disk, load_case(job.folder / "case"), {}, job.quiet);
      said = !result.already || result.sectors > 0;
      CHECK(disk->same_as(*job.original));  // put back is put back
    } catch (const Error& e) {
      ++refused;
      const bool fine = e.code() == ErrorCode::file || e.code() == ErrorCode::refused ||
                        e.code() == ErrorCode::words || e.code() == ErrorCode::cut_off;
      CHECK(fine);
      CHECK(disk->same_as(*job.after));  // and what was refused is not changed
    }
    CHECK(said);
    CHECK(fs::exists(job.path("undo.journal")));
  };
  const std::size_t stride = std::max<std::size_t>(begins.size() / 60, 1);
  for (std::size_t i = 0; i < begins.size(); ++i) {
    if (i % stride != 0 && i + 12 < begins.size()) continue;
    for (const std::size_t inside : {0u, 4u, 20u, 45u, 55u, 57u}) {
      std::string bytes = whole;
      if (begins[i] + inside >= bytes.size()) continue;
      bytes[begins[i] + inside] = static_cast<char>(bytes[begins[i] + inside] ^ 0x10);
      attempt(bytes);
    }
  }
  for (std::size_t cut = 1; cut < 400; ++cut) attempt(whole.substr(0, whole.size() - cut));
  attempt("");
  MESSAGE(tries << " damaged journals: " << refused << " refused by name, the others put back to "
                << "the byte");
  // The journal alone is enough.
  put_bytes(job.path("undo.journal"), whole);
  std::string steps = bytes_of(job.path("steps.bin"));
  REQUIRE_FALSE(steps.empty());
  steps[steps.size() / 2] ^= 1;
  put_bytes(job.path("steps.bin"), steps);
  CHECK(assessment_json(load_case(job.folder / "case").assessment) ==
        assessment_json(job.assessment));
  for (const char* name : {"assessment.json", "steps.bin", "result.json", "log.jsonl",
                           "before.manifest", "after.manifest"})
    fs::remove(job.path(name));
  const auto disk = job.after->clone();
  const CaseFile alone = load_case(job.folder / "case");
  CHECK(assessment_json(alone.assessment) == assessment_json(job.assessment));
  (void)revert_case(*disk, alone, {}, job.quiet);
  CHECK(disk->same_as(*job.original));
}

TEST_CASE("promise: a case is of one disk, and of no other of its size") {
  Job job;
  job.run();
  // Another disk of the same size and form, with a table of its own.
  Job stranger;
  stranger.run();
  const auto before = stranger.after->clone();
  Bytes mbr = stranger.original->read(0);
  mbr[440] ^= 0x55;  // the signature
  stranger.original->write(0, mbr);
  for (MemoryDevice* disk : {stranger.original.get()}) {
    const auto was = disk->clone();
    for (const bool discard : {false, true}) {
      CHECK(code_of([&] {
              (void)revert_case(*disk, load_case(job.folder / "case"), {discard}, job.quiet);
            }) == ErrorCode::refused);
      CHECK(disk->same_as(*was));
    }
  }
  // Under a newer case of the same disk an older one isn't reverted, whatever is said.
  Random random(2);
  const Assessment next = assess(*job.disk, {parse_goal("p1.name=Boje")}, utc(), random);
  JobOptions options = job.options;
  options.case_folder = job.folder / "newer";
  ::sleep(1);  // a log's times are whole seconds
  REQUIRE(run_job(*job.disk, next, options, job.quiet).sound());
  for (const bool discard : {false, true}) {
    try {
      (void)revert_case(*job.disk, load_case(job.folder / "case"), {discard}, job.quiet);
      FAIL("reverted under a newer case");
    } catch (const Error& e) {
      CHECK(e.code() == ErrorCode::refused);
      if (discard) CHECK(e.message().find("newer") != std::string::npos);
    }
  }
  (void)revert_case(*job.disk, load_case(job.folder / "newer"), {}, job.quiet);
  (void)revert_case(*job.disk, load_case(job.folder / "case"), {}, job.quiet);
  CHECK(job.disk->same_as(*job.original));
  // Once more says that it is so already. Done again, sector for sector, it can be put back by
  // either case: each knows its disk by what is on it.
  CHECK(revert_case(*job.disk, load_case(job.folder / "case"), {}, job.quiet).already);
  Job again;
  REQUIRE(run_job(*job.disk, again.assessment, again.options, job.quiet).sound());
  (void)revert_case(*job.disk, load_case(job.folder / "case"), {}, job.quiet);
  CHECK(job.disk->same_as(*job.original));
}

TEST_CASE("promise: a resumed job leaves what was recorded, or nothing: Nuvrat may have changed") {
  // Cut off before the switch, and behind it.
  for (const std::uint64_t sector : {30u, 68u}) {
    CAPTURE(sector);
    Job job;
    FaultPlan plan;
    plan.cut_before = sector;
    plan.keep = FaultPlan::Keep::all;
    FaultDevice device(*job.disk, plan);
    REQUIRE(code_of([&] { (void)run_job(device, job.assessment, job.options, job.quiet); }) ==
            ErrorCode::cut_off);
    // As another version would plan it: a partition gets another id, and all follows from that.
    std::string text = bytes_of(job.path("assessment.json"));
    const std::string id = job.assessment.after.partitions.at(0).unique_id.text();
    std::string other = id;
    other[0] = other[0] == '0' ? '1' : '0';
    for (std::size_t at = text.find(id); at != text.npos; at = text.find(id, at))
      text.replace(at, id.size(), other);
    put_bytes(job.path("assessment.json"), text);
    const auto was = job.disk->clone();
    const CaseFile file = load_case(job.folder / "case");
    const ErrorCode code = code_of([&] { (void)resume_case(*job.disk, file, job.quiet); });
    if (sector == 30) {
      CHECK(code == ErrorCode::refused);
      CHECK(job.disk->same_as(*was));
    } else {  // what was left to do is the same; that the table isn't as this plan has it is said
      CHECK(code == ErrorCode::not_compared);
      CHECK(Journal::open(job.path("undo.journal")).strange_sectors(*job.disk, true).empty());
    }
    (void)revert_case(*job.disk, file, {}, job.quiet);
    CHECK(job.disk->same_as(*job.original));
  }
}

TEST_CASE("promise: a partition's name comes back from a case as it was, unit by unit") {
  const std::u16string odd = {u'a', 0x0007, 0xD800, 0x200D, u'b'};
  auto disk = support::disk(70000);
  Layout layout;
  layout.kind = TableKind::gpt;
  layout.sector_size = 512;
  layout.disk_sectors = 70000;
  Partition p;
  p.role = Role::gpt;
  p.number = 1;
  p.start = 2048;
  p.sectors = 2048;
  p.name = to_utf8(odd);
  Assessment a;
  a.before = a.after = layout;
  a.after.partitions.push_back(p);
  support::Folder folder;
  a.tag = "TEST";
  a.device = disk->identity();
  a.obstacles.emplace_back().text = "kept for its names";
  JobOptions options;
  options.case_folder = folder / "case";
  record_refusal(*disk, a, options);
  CHECK(to_utf16(load_case(folder / "case").assessment.after.partitions.at(0).name) == odd);
}

TEST_CASE("promise: a revert tried on a copy leaves the case as it is for the disk") {
  Job job;
  job.run();
  CaseFile file = load_case(job.folder / "case");
  const auto copy = job.disk->clone();
  (void)revert_case(*copy, file, {}, job.quiet);
  CHECK(copy->same_as(*job.original));
  CHECK(stage_of(load_case(job.folder / "case"), *job.disk) == CaseStage::finished);
  (void)revert_case(*job.disk, load_case(job.folder / "case"), {}, job.quiet);
  CHECK(job.disk->same_as(*job.original));
}

TEST_CASE("promise: a case is its owner's alone, on a disk, and its folder somebody's own") {
  Job job;
  job.run();
  const auto mode = [](const fs::path& path) {
    return static_cast<unsigned>(fs::status(path).permissions()) & 0777;
  };
  CHECK(mode(job.folder / "case") == 0700);
  for (const auto& entry : fs::directory_iterator(job.folder / "case")) {
    CAPTURE(entry.path().string());
    CHECK(mode(entry.path()) == 0600);
  }
  if (::geteuid() != 0) return;
  Job theirs;
  fs::create_directory(theirs.options.case_folder);
  REQUIRE(::chown(theirs.options.case_folder.c_str(), 12345, 12345) == 0);
  CHECK(theirs.refused());
  CHECK(theirs.disk->same_as(*theirs.original));
  Job memory;
  const auto mount = memory.folder / "memory";
  fs::create_directory(mount);
  if (support::run("mount -t tmpfs none " + mount.string()).status != 0) return;
  memory.options.case_folder = mount / "case";
  CHECK(memory.refused());
  memory.options.case_in_memory = true;
  memory.run();
  support::run("umount " + mount.string());
}

TEST_CASE("promise: signals and readers that go away end no write half way") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  const std::string before = support::fingerprint(image);
  const std::string tag = tag_now(image);
  Random random(5);
  std::map<int, int> statuses;
  int tries = 0;
  for (const int number : {SIGHUP, SIGPIPE, SIGTERM, SIGQUIT, SIGXFSZ}) {
    for (int round = 0; round < 8; ++round, ++tries) {
      const auto job = folder / fmt::format("case{}", tries);
      const pid_t child = ::fork();
      if (child == 0) {
        const int nothing = ::open("/dev/null", O_WRONLY);
        ::dup2(nothing, 1);
        ::dup2(nothing, 2);
        ::execl(NUVRAT_TOOL, NUVRAT_TOOL, "rewrite", "--timezone", "UTC", "--confirm", tag.c_str(),
                "--fault", "delay=300", "--case", job.c_str(), image.c_str(), "table=gpt", nullptr);
        ::_exit(127);
      }
      while (!fs::exists(job / "undo.journal") && ::waitpid(child, nullptr, WNOHANG) == 0)
        ::usleep(200);
      ::usleep(static_cast<useconds_t>(random.below(30000)));
      ::kill(child, number);
      int status = 0;
      ::waitpid(child, &status, 0);
      CHECK(WIFEXITED(status));
      ++statuses[WEXITSTATUS(status)];
      if (WEXITSTATUS(status) == 0) {
        CHECK(support::tool(fmt::format("revert --confirm {} {}", tag_now(image), job.string()))
                  .status == 0);
      }
      CHECK(support::fingerprint(image) == before);
    }
  }
  std::string text;
  for (const auto& [status, count] : statuses) text += fmt::format(" {} with {}", count, status);
  MESSAGE(tries << " signals: ended" << text << "; the disk old or new each time, and put back");
}

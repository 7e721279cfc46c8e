// The real command killed, interrupted, and on disks that somebody uses.

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <thread>

#include <fcntl.h>
#include <fmt/core.h>
#include <nlohmann/json.hpp>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include "disk_bytes.h"
#include "foreign_disk.h"
#include "random_goals.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using Json = nlohmann::json;

namespace {

// Starts the tool; what it prints is thrown away.
pid_t start(std::vector<std::string> words) {
  const pid_t child = ::fork();
  if (child != 0) return child;
  const int nowhere = ::open("/dev/null", O_RDWR);
  ::dup2(nowhere, 0);
  ::dup2(nowhere, 1);
  ::dup2(nowhere, 2);
  words.insert(words.begin(), NUVRAT_TOOL);
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  ::execv(arguments[0], arguments.data());
  ::_exit(127);
}

std::string tag_of(const std::filesystem::path& image, std::uint32_t sector_size) {
  const auto device = open_device(image, {false, sector_size});
  return disk_tag(*device, read_table(*device));
}

std::string seal_of(const std::filesystem::path& image, std::uint32_t sector_size) {
  const auto device = open_device(image, {false, sector_size});
  QuietProgress quiet;
  ReadOptions options;
  options.zone = Zone();
  return take_manifest(*device, options, quiet).seal();
}

std::uint64_t microseconds_since(std::chrono::steady_clock::time_point begun) {
  const auto passed = std::chrono::steady_clock::now() - begun;
  return static_cast<std::uint64_t>(
      std::chrono::duration_cast<std::chrono::microseconds>(passed).count());
}

// Runs the tool and kills it: half of the times once the file is there and a moment has passed,
// else at any moment up to `longest` microseconds. False if it ended by itself before that.
bool kill_after(const std::vector<std::string>& words, Random& random,
                const std::filesystem::path& there, std::uint64_t longest) {
  const pid_t child = start(words);
  const auto begun = std::chrono::steady_clock::now();
  int status = 0;
  bool ended = false;
  std::uint64_t wait = random.below(longest);
  if (!there.empty() && random.below(2) == 0) {
    while (!ended && !std::filesystem::exists(there) && microseconds_since(begun) < 60'000'000) {
      ended = ::waitpid(child, &status, WNOHANG) == child;
      std::this_thread::sleep_for(std::chrono::microseconds(100));
    }
    wait = random.below(longest / 2);
  }
  if (ended) return false;
  std::this_thread::sleep_for(std::chrono::microseconds(wait));
  ::kill(child, SIGKILL);
  ::waitpid(child, &status, 0);
  return WIFSIGNALED(status);
}

// An image of a disk by other hands, goals that are in reach on it, and the seals of its states.
struct PlannedKill {
  std::filesystem::path image;
  std::uint32_t sector_size = 512;
  std::vector<std::string> goals;  // empty if none of those drawn was in reach
  std::vector<std::string> seals;
};

PlannedKill plan_a_kill(Random& random, const std::filesystem::path& image) {
  PlannedKill out;
  out.image = image;
  const auto disk =
      random.below(4) == 0 ? foreign::random_table(random) : foreign::random_disk(random);
  out.sector_size = disk->sector_size();
  create_image(image, disk->sectors(), disk->sector_size(), true);
  const auto device = open_device(image, {true, disk->sector_size()});
  disk_bytes::copy_data(*disk, *device);
  const Layout layout = read_table(*device).layout;
  for (int tries = 0; tries < 40 && out.goals.empty(); ++tries) {
    std::vector<std::string> words;
    std::vector<Goal> goals;
    for (std::uint64_t n = 1 + random.below(3); n > 0; --n) {
      words.push_back(support::random_goal(random, layout));
      goals.push_back(parse_goal(words.back()));
    }
    try {
      Random made(1);
      const Assessment a = assess(*device, goals, support::utc(), made);
      if (!a.in_reach() || a.steps.empty()) continue;
      out.goals = words;
      out.seals = scenarios::seals_on_the_way(*device, a);
    } catch (const Error& e) {
      REQUIRE(e.code() == ErrorCode::words);  // goals that contradict each other
    }
  }
  return out;
}

}  // namespace

TEST_CASE("kill: at random moments, the disk is old or new, and can be put back") {
  const support::Folder folder(support::Folder::Where::memory);
  const auto image = folder / "disk.img";
  const auto pristine = folder / "pristine.img";
  Random random(support::seed(77));
  std::map<std::string, int> stages;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    scenarios::make_image(pristine, scenario);
    const std::string before = support::fingerprint(pristine);
    const std::vector<std::string> seals = [&] {
      const auto device = open_device(pristine, {true, scenario.sector_size});
      return scenarios::seals_on_the_way(*device, scenario.assess(*device));
    }();
    const std::string tag = tag_of(pristine, scenario.sector_size);
    const int rounds = support::is_long() ? 40 : 5;
    std::uint64_t longest = 60'000;  // microseconds; follows what a whole run takes
    for (int round = 0; round < rounds; ++round) {
      std::filesystem::copy_file(pristine, image,
                                 std::filesystem::copy_options::overwrite_existing);
      const auto job = folder / fmt::format("case-{}-{}", scenario.name, round);
      std::vector<std::string> words = {"rewrite"};
      if (scenario.goals.empty()) words = {"check", "--repair"};
      for (const std::string& word :
           {std::string("--json"), std::string("--timezone"), std::string("UTC"),
            std::string("--sector-size"), std::to_string(scenario.sector_size),
            std::string("--confirm"), tag, std::string("--case-in-memory"), std::string("--case"),
            job.string(), std::string("--fault"), std::string("delay=100"), image.string()}) {
        words.push_back(word);
      }
      words.insert(words.end(), scenario.goals.begin(), scenario.goals.end());
      // A boot store holds new identities: they must be the ones of the plan above.
      if (!scenario.goals.empty()) words.insert(words.end(), {"--seed", "1"});
      const auto begun = std::chrono::steady_clock::now();
      const pid_t child = start(words);
      if (round % 2 == 1)
        std::this_thread::sleep_for(std::chrono::microseconds(random.below(longest)));
      // Half of them while it writes: from the journal's first record on.
      if (round > 0 && round % 2 == 0) {
        while (!std::filesystem::exists(job / "undo.journal") &&
               ::waitpid(child, nullptr, WNOHANG) == 0) {
          std::this_thread::sleep_for(std::chrono::microseconds(100));
        }
        std::this_thread::sleep_for(std::chrono::microseconds(random.below(20'000)));
      }
      if (round > 0) ::kill(child, SIGKILL);
      int status = 0;
      ::waitpid(child, &status, 0);
      if (round == 0) {  // left alone, to see how long it takes
        longest = static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::microseconds>(
                                                 std::chrono::steady_clock::now() - begun)
                                                 .count());
      }
      CHECK(std::count(seals.begin(), seals.end(), seal_of(image, scenario.sector_size)) > 0);
      if (!std::filesystem::exists(job / "assessment.json") ||
          std::filesystem::is_empty(job / "assessment.json")) {
        CHECK(support::fingerprint(image) == before);
        ++stages["no case yet"];
        continue;
      }
      {
        const auto device = open_device(image, {true, scenario.sector_size});
        const CaseFile file = load_case(job);
        ++stages[name_of(stage_of(file, *device))];
        QuietProgress quiet;
        if (round % 3 == 0) CHECK(resume_case(*device, file, quiet).sound());
        const RevertResult back = revert_case(*device, load_case(job), {}, quiet);
        CHECK(back.equal());
        CHECK((back.compared || back.already));
      }
      CHECK(support::fingerprint(image) == before);
    }
  }
  std::string text;
  for (const auto& [stage, count] : stages) text += fmt::format(" {} {}", count, stage);
  MESSAGE("killed at:" << text);
}

TEST_CASE("kill: on disks by other hands, half of them killed again, all of them put back") {
  QuietProgress quiet;
  std::map<std::string, int> stages;
  int again = 0, whole = 0;
  std::uint64_t longest = 100'000;  // microseconds
  const std::uint64_t rounds = support::is_long() ? 1000 : 24;
  for (std::uint64_t round = 0; round < rounds; ++round) {
    CAPTURE(round);
    Random random(support::seed(88000 + round));
    const support::Folder folder(support::Folder::Where::memory);
    const PlannedKill plan = plan_a_kill(random, folder / "disk.img");
    if (plan.goals.empty()) continue;
    std::string text;
    for (const std::string& goal : plan.goals) text += goal + " ";
    CAPTURE(text);
    const auto job = folder / "case";
    const std::string before = support::fingerprint(plan.image);
    std::vector<std::string> words = {"rewrite",
                                      "--json",
                                      "--sector-size",
                                      std::to_string(plan.sector_size),
                                      "--timezone",
                                      "UTC",
                                      "--seed",
                                      "1",
                                      "--case-in-memory",
                                      "--case",
                                      job.string(),
                                      "--fault",
                                      "delay=200",
                                      "--confirm",
                                      tag_of(plan.image, plan.sector_size),
                                      plan.image.string()};
    words.insert(words.end(), plan.goals.begin(), plan.goals.end());
    const auto begun = std::chrono::steady_clock::now();
    if (!kill_after(words, random, job / "undo.journal", longest)) {
      ++whole;
      longest = std::max(longest, microseconds_since(begun));
    }
    const auto must_be_on_the_way = [&] {
      CHECK(std::count(plan.seals.begin(), plan.seals.end(),
                       seal_of(plan.image, plan.sector_size)) > 0);
    };
    must_be_on_the_way();
    if (!std::filesystem::exists(job / "assessment.json")) {
      CHECK(support::fingerprint(plan.image) == before);
      ++stages["no case yet"];
      continue;
    }
    if (round % 2 == 0) {
      ++again;
      (void)kill_after({random.below(2) == 0 ? "resume" : "revert", "--fault", "delay=200",
                        "--confirm", tag_of(plan.image, plan.sector_size), job.string()},
                       random, {}, longest);
      must_be_on_the_way();
    }
    const auto device = open_device(plan.image, {true, plan.sector_size});
    const CaseStage stage = stage_of(load_case(job), *device);
    ++stages[name_of(stage)];
    if (random.below(2) == 0 && stage != CaseStage::reverting && stage != CaseStage::reverted)
      CHECK(resume_case(*device, load_case(job), quiet).sound());
    CHECK(revert_case(*device, load_case(job), {}, quiet).equal());
    CHECK(support::fingerprint(plan.image) == before);
  }
  std::string text;
  for (const auto& [stage, count] : stages) text += fmt::format(" {} {}", count, stage);
  MESSAGE("killed or done at:" << text << "; " << again << " killed again, " << whole
                               << " were done before it");
  CHECK(stages.size() >= 3);
}

TEST_CASE("interrupt: SIGINT and SIGTERM end with a whole disk, and the status says which") {
  const support::Folder folder;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  scenarios::make_image(folder / "pristine.img", scenario);
  const std::string before = support::fingerprint(folder / "pristine.img");
  const std::string tag = tag_of(folder / "pristine.img", 512);
  Random random(support::seed(5));
  for (int round = 0; round < 16; ++round) {
    const auto image = folder / "disk.img";
    std::filesystem::copy_file(folder / "pristine.img", image,
                               std::filesystem::copy_options::overwrite_existing);
    const pid_t child =
        start({"rewrite", "--confirm", tag, "--case", (folder / fmt::format("c{}", round)).string(),
               "--fault", "delay=500", image.string(), "table=gpt"});
    std::this_thread::sleep_for(std::chrono::milliseconds(30 + random.below(400)));
    ::kill(child, round % 2 == 0 ? SIGINT : SIGTERM);
    ::kill(child, SIGINT);  // a second one changes nothing
    int status = 0;
    ::waitpid(child, &status, 0);
    if (!WIFEXITED(status)) {  // before the handler was there: nothing had begun
      CHECK(support::fingerprint(image) == before);
    } else if (WEXITSTATUS(status) == 3) {
      CHECK(support::fingerprint(image) == before);
    } else {
      CHECK(WEXITSTATUS(status) == 0);
      const auto device = open_device(image);
      CHECK(support::judge_gpt(*device).empty());
    }
  }
}

TEST_CASE("cases: resume and revert as commands, with the tag of the disk as it is") {
  const support::Folder folder;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenario);
  const std::string before = support::fingerprint(image);
  const std::string job = (folder / "case").string();
  const std::string tag = tag_of(image, 512);
  CHECK(support::tool(fmt::format("rewrite --physical-sector-size 512 --fault cut=68,keep=none "
                                  "--confirm {} --case {} {} table=gpt",
                                  tag, job, image.string()))
            .status == 5);
  const std::string now = tag_of(image, 512);
  CHECK(now != tag);
  CHECK(
      support::tool("survey " + image.string()).out.find(name_of(Rule::table_settle_unfinished)) !=
      std::string::npos);
  CHECK(support::tool("resume " + job).status == 3);
  CHECK(support::tool("resume --confirm " + tag + " " + job).status == 3);  // the old disk's tag
  const auto resumed = support::tool("resume --json --confirm " + now + " " + job);
  CHECK(resumed.status == 0);
  CHECK(Json::parse(resumed.out).at("verdict") == "done");
  const auto reverted = support::tool("revert --json --confirm " + now + " " + job);
  CHECK(reverted.status == 0);
  CHECK(Json::parse(reverted.out).at("tag_after") == tag);
  CHECK(support::fingerprint(image) == before);
  CHECK(support::tool("revert --confirm " + tag + " " + folder.path().string()).status == 2);

  // The case lost: the disk itself is named.
  CHECK(support::tool(fmt::format("rewrite --physical-sector-size 512 --fault cut=68,keep=none "
                                  "--confirm {} --case {} {} table=gpt",
                                  tag, job + "2", image.string()))
            .status == 5);
  std::filesystem::remove_all(job + "2");
  CHECK(support::tool("resume --confirm " + tag_of(image, 512) + " " + image.string()).status == 0);
  const auto device = open_device(image);
  CHECK(support::judge_gpt(*device).empty());
}

namespace {

// The smallest erofs volume there is, an empty root folder, written by hand into the room behind
// the MBR: superblock at byte 1024, the root's inode in block 1, its entries in block 2.
void write_erofs(Device& device) {
  Bytes room = device.read(0, 24);
  const auto put = [&room](std::size_t at, std::uint64_t value, unsigned width) {
    for (unsigned i = 0; i < width; ++i) room[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
  };
  put(1024, 0xE0F5E1E2, 4);
  put(1024 + 12, 12, 1);      // blocks of 4096 bytes
  put(1024 + 14, 0, 2);       // the root's number
  put(1024 + 16, 1, 8);       // inodes
  put(1024 + 36, 3, 4);       // blocks
  put(1024 + 40, 1, 4);       // where inodes begin
  put(4096 + 4, 0040755, 2);  // a folder
  put(4096 + 6, 2, 2);        // links
  put(4096 + 8, 27, 4);       // bytes of its entries
  put(4096 + 16, 2, 4);       // their block
  put(4096 + 20, 1, 4);
  put(8192 + 8, 24, 2);  // "." at 24
  put(8192 + 10, 2, 1);
  put(8192 + 12 + 8, 25, 2);  // ".." at 25
  put(8192 + 12 + 10, 2, 1);
  put(8192 + 24, 0x2E2E2E, 3);
  device.write(0, room);
}

}  // namespace

TEST_CASE("in use: a mounted disk is refused with its mount point") {
  if (::geteuid() != 0 || support::run("losetup -f").status != 0) {
    MESSAGE("SKIPPED: loop devices can't be had here");
    return;
  }
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  write_erofs(*open_device(image, {true, 512}));
  const std::string tag = tag_of(image, 512);
  const auto point = folder / "point";
  std::filesystem::create_directory(point);
  if (support::run(fmt::format("mount -t erofs -o loop,ro {} {}", image.string(), point.string()))
          .status != 0) {
    MESSAGE("SKIPPED: this machine can't mount erofs");
    return;
  }
  const std::string before = support::fingerprint(image);
  const auto mounted =
      support::tool("rewrite --confirm " + tag + " " + image.string() + " table=gpt");
  const std::string loop = support::run("findmnt -no SOURCE " + point.string()).out;
  const auto block = support::tool("rewrite --confirm " + tag + " " +
                                   loop.substr(0, loop.size() - 1) + " table=gpt");
  support::run("umount " + point.string());
  for (const auto* ran : {&mounted, &block}) {
    CHECK(ran->status == 3);
    CHECK_MESSAGE(ran->errors.find("mounted at") != std::string::npos, ran->errors);
  }
  CHECK(support::fingerprint(image) == before);
}

namespace {

// A file system with little room, until the end of the test.
class SmallDisk {
 public:
  SmallDisk(std::filesystem::path path, const std::string& size) : path_(std::move(path)) {
    std::filesystem::create_directory(path_);
    is_there_ = ::geteuid() == 0 &&
                support::run(fmt::format("mount -t tmpfs -o size={} none {}", size, path_.string()))
                        .status == 0;
    if (!is_there_) MESSAGE("SKIPPED: no small file system can be mounted here");
  }
  SmallDisk(const SmallDisk&) = delete;
  SmallDisk& operator=(const SmallDisk&) = delete;
  ~SmallDisk() {
    if (is_there_) support::run("umount " + path_.string());
  }
  [[nodiscard]] bool is_there() const { return is_there_; }
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
  bool is_there_ = false;
};

}  // namespace

TEST_CASE("journal: too little room for it is found out before anything is written") {
  const support::Folder folder;
  const SmallDisk place(folder / "small", "200k");
  if (!place.is_there()) return;
  const auto& small = place.path();
  scenarios::make_image(folder / "disk.img", scenarios::all()[0]);
  const std::string before = support::fingerprint(folder / "disk.img");
  // The manifest takes its part of the room first; the rest is filled but for a little.
  const std::string rewrite =
      fmt::format("rewrite --confirm {} --case-in-memory --case {}/case {} table=gpt",
                  tag_of(folder / "disk.img", 512), small.string(), (folder / "disk.img").string());
  support::run("head -c 90000 /dev/zero > " + (small / "filler").string());
  const auto ran = support::tool(rewrite);
  CHECK(ran.status == 3);
  CHECK_MESSAGE(ran.errors.find("are missing") != std::string::npos, ran.errors);
  CHECK(support::fingerprint(folder / "disk.img") == before);
}

TEST_CASE("journal: where there is room for live sectors alone, that is said, and it is enough") {
  const support::Folder folder;
  const SmallDisk place(folder / "small", "600k");
  if (!place.is_there()) return;
  const auto& small = place.path();
  const auto& all = scenarios::all();
  const auto it = std::find_if(all.begin(), all.end(), [](const scenarios::Scenario& s) {
    return s.name == "a volume without a table to NTFS";
  });
  REQUIRE(it != all.end());
  const auto image = folder / "disk.img";
  scenarios::make_image(image, *it);
  const std::string before = support::fingerprint(image);
  const std::string seal = seal_of(image, 512);
  const auto job = (small / "case").string();
  const std::string rewrite =
      fmt::format("rewrite --timezone UTC --confirm {} --case-in-memory --case {} {} volume=ntfs",
                  tag_of(image, 512), job, image.string());
  const auto full = support::tool(rewrite);
  CHECK(full.status == 3);
  CHECK_MESSAGE(full.errors.find("--undo live") != std::string::npos, full.errors);
  CHECK(support::fingerprint(image) == before);
  std::filesystem::remove_all(job);
  const auto live = support::tool(rewrite + " --undo live");
  CHECK_MESSAGE(live.status == 0, live.errors);
  const auto back = support::tool(fmt::format("revert {} --confirm {}", job, tag_of(image, 512)));
  CHECK_MESSAGE(back.status == 0, back.errors);
  CHECK(seal_of(image, 512) == seal);
}

TEST_CASE(
    "full: an image with holes on a file system without room is refused, or done and undone") {
  const support::Folder folder;
  const SmallDisk place(folder / "small", "4m");
  if (!place.is_there()) return;
  const auto& small = place.path();
  const auto image = small / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  const std::string before = support::fingerprint(image);
  const std::string rewrite =
      fmt::format("rewrite --confirm {} --case {} {} table=gpt", tag_of(image, 512),
                  (folder / "case").string(), image.string());
  const std::string fill = "cat /dev/zero > " + (small / "filler").string();
  support::run(fill);
  const auto refused = support::tool(rewrite);
  CHECK(refused.status == 3);
  CHECK_MESSAGE(refused.errors.find("no room") != std::string::npos, refused.errors);
  CHECK(support::fingerprint(image) == before);
  // With room it is done; and put back although there is none any more.
  std::filesystem::remove(small / "filler");
  std::filesystem::remove_all(folder / "case");
  CHECK(support::tool(rewrite).status == 0);
  support::run(fill);
  CHECK(support::tool(
            fmt::format("revert --confirm {} {}", tag_of(image, 512), (folder / "case").string()))
            .status == 0);
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("in use: whoever comes while an image is read stops the job before its first write") {
  const support::Folder folder;
  const auto image = folder / "disk.img", twin = folder / "twin.img", visit = folder / "visit";
  scenarios::make_image(image, scenarios::all()[0]);
  const std::string before = support::fingerprint(image);
  std::filesystem::copy_file(image, twin);
  const std::string changes =
      fmt::format("printf x | dd of={} bs=1 seek=700 conv=notrunc status=none", image.string());
  const std::string stays = fmt::format("exec 9<>{}; sleep 60 >{} 2>&1 & echo $! >{}",
                                        image.string(), "/dev/null", visit.string());
  const auto leaves = [&] {
    support::run(fmt::format(
        "p=$(cat {}); kill $p; while [ -e /proc/$p/fd/9 ]; do sleep 0.01; done", visit.string()));
  };
  // Something happens as a stage begins; `work` is done with the disk meanwhile.
  const auto during = [&](const std::string& stage, const std::string& happens, const auto& work) {
    bool happened = false;
    const auto device = open_device(image, {true, 512});
    support::AtStage visitor([&](std::string_view name) {
      if (name == stage && !happened) {
        REQUIRE(support::run(happens).status == 0);
        happened = true;
      }
    });
    work(*device, visitor);
    CHECK(happened);
  };
  const auto rewrite = [&](Device& device, Progress& progress) {
    Random random(1);
    const Assessment a = assess(device, {parse_goal("table=gpt")}, support::utc(), random);
    std::filesystem::remove_all(folder / "case");
    CHECK(support::code_of([&] {
            (void)run_job(device, a, support::case_in_memory(folder / "case"), progress);
          }) == ErrorCode::busy);
  };
  for (const char* stage : {"recording p1", "rehearsing"}) {
    CAPTURE(stage);
    during(stage, changes, rewrite);
    std::filesystem::copy_file(twin, image, std::filesystem::copy_options::overwrite_existing);
    during(stage, stays, rewrite);
    leaves();
  }
  CHECK(support::fingerprint(image) == before);

  // Who only looks says so.
  QuietProgress quiet;
  const Manifest recorded = take_manifest(*open_device(image), support::utc(), quiet);
  CHECK(recorded.disturbance.empty());
  during("reading p1", changes, [&](Device& device, Progress& progress) {
    const Verification v = verify_disk(recorded, device, support::utc(), progress, {});
    CHECK(v.comparison.equal());
    CHECK_FALSE(v.now.disturbance.empty());
    CHECK(find_code(survey_disk(device, support::utc()).table.findings, Rule::disk_disturbed));
  });
  std::filesystem::copy_file(twin, image, std::filesystem::copy_options::overwrite_existing);

  {  // nor does the way back begin
    const auto device = open_device(image, {true, 512});
    Random random(1);
    const Assessment a = assess(*device, {parse_goal("table=gpt")}, support::utc(), random);
    std::filesystem::remove_all(folder / "case");
    (void)run_job(*device, a, support::case_in_memory(folder / "case"), quiet);
  }
  const std::string after = support::fingerprint(image);
  during("reading p1", stays, [&](Device& device, Progress& progress) {
    CHECK(support::code_of([&] {
            (void)revert_case(device, load_case(folder / "case"), {}, progress);
          }) == ErrorCode::busy);
  });
  leaves();
  CHECK(support::fingerprint(image) == after);
  (void)revert_case(*open_device(image, {true, 512}), load_case(folder / "case"), {}, quiet);
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("in use: a disk that anybody holds is refused by name") {
  if (::geteuid() != 0 || support::run("losetup -f").status != 0) {
    MESSAGE("SKIPPED: loop devices can't be had here");
    return;
  }
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  const std::string tag = tag_of(image, 512);
  std::string loop = support::run("losetup --show -P -f " + image.string()).out;
  REQUIRE(!loop.empty());
  loop.pop_back();
  struct Detach {
    std::string loop;
    ~Detach() { support::run("losetup -d " + loop); }
  } detach{loop};

  const auto attached =
      support::tool("rewrite --confirm " + tag + " " + image.string() + " table=gpt");
  CHECK(attached.status == 3);
  CHECK(attached.errors.find(loop) != std::string::npos);

  const int held = ::open(loop.c_str(), O_RDWR | O_EXCL);
  REQUIRE(held >= 0);
  const auto busy = support::tool("rewrite --confirm " + tag + " " + loop + " table=gpt");
  CHECK(busy.status == 3);
  CHECK(busy.errors.find("nuvrat_tests") != std::string::npos);
  ::close(held);

  {  // a swap area made by hand, in the room behind the MBR
    const auto device = open_device(loop, {true, 0});
    Bytes page = device->read(0, 8);
    page[1024] = 1;
    page[1028] = 200;
    const std::string mark = "SWAPSPACE2";
    std::copy(mark.begin(), mark.end(), page.begin() + 4086);
    device->write(0, page);
  }
  if (support::run("swapon " + loop).status == 0) {
    const auto swapped = support::tool("rewrite --confirm " + tag + " " + loop + " table=gpt");
    CHECK(swapped.status == 3);
    CHECK(swapped.errors.find("in use as swap") != std::string::npos);
    support::run("swapoff " + loop);
  } else {
    MESSAGE("SKIPPED: swap can't be turned on here");
  }

  const auto done = support::tool(fmt::format("rewrite --json --confirm {} --case {} {} table=gpt",
                                              tag_of(loop, 0), (folder / "case").string(), loop));
  CHECK(done.status == 0);
  CHECK(Json::parse(done.out).at("table_reread") == true);
  if (!std::filesystem::exists("/sys/class/block/" + loop.substr(5) + "p1")) {
    MESSAGE("SKIPPED: this machine's kernel reads no partition tables");
    return;
  }
  const auto seen = support::run(
      fmt::format("cat /sys/class/block/{0}p5/start /sys/class/block/{0}p6/start", loop.substr(5)));
  CHECK(seen.out == "20064\n40016\n");
}

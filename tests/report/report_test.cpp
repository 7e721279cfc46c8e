// What people and programs are given: the page in a browser, JSON against its schemas, events,
// the terminal's views.

#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/core.h>
#include <nlohmann/json.hpp>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using Json = nlohmann::json;
using support::tool;

namespace {

// The demo's disks, and jobs on them that end in every way that a job can.
class Bench {
 public:
  Bench() {
    run(fmt::format("{} {}", NUVRAT_MAKE_DISKS, folder_.path().string()), 0);
    for (const char* copy : {"cut", "behind", "back", "half", "stopped"}) copy_of("logger", copy);
    copy_of("archive", "refused");
    copy_of("worn", "labelled");
    rewrite("logger", "table=gpt p1=ntfs", "", 0);
    rewrite("archive", "table=mbr", "", 0);
    rewrite("stick", "volume=ntfs", "", 0);
    rewrite("cut", "table=gpt", "--physical-sector-size 512 --fault cut=20", 5);
    rewrite("behind", "table=gpt", "--physical-sector-size 512 --fault cut=68,keep=all", 5);
    rewrite("back", "table=gpt", "", 0);
    rewrite("half", "table=gpt", "", 0);
    rewrite("refused", "table=mbr p1=logical p2=primary p3=logical", "", 3);
    rewrite("stopped", "table=gpt", "--fault bad-read=6000+8", 3);
    run(fmt::format("{} check --repair --unowned keep --timezone UTC --confirm {} --case {} {}",
                    NUVRAT_TOOL, tag("worn"), at("worn-case"), at("worn.img")),
        0);
    run(fmt::format("{} revert --confirm {} {}", NUVRAT_TOOL, tag("back"), at("back-case")), 0);
    run(fmt::format("{} revert --confirm {} {} --fault cut=5", NUVRAT_TOOL, tag("half"),
                    at("half-case")),
        5);
  }
  [[nodiscard]] std::string at(const std::string& name) const { return (folder_ / name).string(); }
  [[nodiscard]] std::string tag(const std::string& disk) const {
    return Json::parse(tool("survey --json " + at(disk + ".img")).out).at("tag");
  }
  [[nodiscard]] std::vector<std::string> cases() const {
    std::vector<std::string> out;
    for (const char* name : {"logger", "archive", "stick", "worn", "cut", "behind", "back", "half",
                             "refused", "stopped"})
      out.push_back(at(std::string(name) + "-case"));
    return out;
  }

 private:
  static void run(const std::string& command, int status) {
    const auto ran = support::run(command);
    REQUIRE_MESSAGE(ran.status == status, command, "\n", ran.out, ran.errors);
  }
  void copy_of(const char* from, const char* to) const {
    run(fmt::format("cp --sparse=always {}.img {}.img", at(from), at(to)), 0);
  }
  void rewrite(const std::string& disk, const std::string& goals, const std::string& more,
               int status) const {
    run(fmt::format("{} rewrite {}.img {} --timezone UTC --confirm {} --case {}-case --events "
                    "{}.jsonl {}",
                    NUVRAT_TOOL, at(disk), goals, tag(disk), at(disk), at(disk), more),
        status);
  }
  support::Folder folder_;
};

std::vector<Json> lines_of(const std::string& path) {
  std::vector<Json> out;
  std::ifstream in(path);
  for (std::string line; std::getline(in, line);) out.push_back(Json::parse(line));
  return out;
}

}  // namespace

TEST_CASE("report: every way that a job can end has its page, read by a browser") {
  const Bench bench;
  std::string all;
  for (const std::string& path : bench.cases()) all += " " + path;
  const auto seen = support::run(
      fmt::format("/usr/bin/python3 {}/page_check.py {}{}", NUVRAT_TESTS_FOLDER, NUVRAT_TOOL, all));
  CHECK_MESSAGE(seen.status == 0, seen.out, seen.errors);
  MESSAGE(seen.out);

  const auto outcome = [&](const char* name) {
    const auto disk = open_device(bench.at(std::string(name) + ".img"), {false, 512});
    return read_record(bench.at(std::string(name) + "-case"), disk.get()).outcome;
  };
  CHECK(outcome("logger") == Outcome::done);
  CHECK(outcome("worn") == Outcome::done);
  CHECK(outcome("cut") == Outcome::old_disk);
  CHECK(outcome("behind") == Outcome::new_disk);
  CHECK(outcome("back") == Outcome::reverted);
  CHECK(outcome("half") == Outcome::reverting);
  CHECK(outcome("refused") == Outcome::out_of_reach);
  CHECK(outcome("stopped") == Outcome::stopped);
  // Findings that the job found on the disk and left there are not said to be its own.
  const auto labelled =
      tool(fmt::format("rewrite {} volume.label=X --confirm {} --case {}", bench.at("labelled.img"),
                       bench.tag("labelled"), bench.at("labelled-case")));
  CHECK(labelled.status == 0);
  CHECK_MESSAGE(labelled.out.find("3 findings as before the job") != std::string::npos,
                labelled.out);
  CHECK(labelled.out.find(name_of(Rule::fat_unowned)) == std::string::npos);
  // Without the disk a job that was cut off is either: the page may not claim to know.
  CHECK(read_record(bench.at("cut-case")).outcome == Outcome::cut_off);

  SUBCASE("a file that changed since is a difference on the page") {
    std::ifstream in(bench.at("logger-case/after.manifest"));
    std::stringstream text;
    text << in.rdbuf();
    Manifest changed = load_manifest(bench.at("logger-case/after.manifest"));
    for (FileTree::Id id = 1; id < changed.volumes[0].tree.size(); ++id) {
      if (changed.volumes[0].tree.is_directory(id)) continue;
      changed.volumes[0].digests[id].bytes[0] ^= 1;
      break;
    }
    save_manifest(changed, bench.at("logger-case/after.manifest"));
    const CaseRecord record = read_record(bench.at("logger-case"));
    CHECK(record.outcome == Outcome::differs);
    const std::string page = report_html(record);
    CHECK(page.find("Don't use this disk yet: not everything is as it was") != std::string::npos);
    // What differs is named before anything else, and no command is asked of the owner.
    const std::size_t named = page.find("1 thing is not as before: p1/");
    REQUIRE(named != std::string::npos);
    CHECK(named < page.find("<main"));
    CHECK(page.find("What you do next") == std::string::npos);
  }
}

TEST_CASE(
    "report: who it is from and for, and the owner's part first and without the trade's words") {
  const Bench bench;
  const support::Folder folder;
  const auto file = folder / "letterhead";
  std::ofstream(file) << "# the bench\ntechnician = Ilse Quarrow, bench 4 <on site>\n\njob=OR-17\n";
  Letterhead head = read_letterhead(file);
  CHECK(head.technician == "Ilse Quarrow, bench 4 <on site>");
  CHECK(head.job == "OR-17");
  CHECK(head.owner.empty());
  head.owner = "The tide station";
  CHECK(read_letterhead(folder / "none").technician.empty());
  std::ofstream(file) << "technican = nobody\n";
  CHECK(support::code_of([&] { (void)read_letterhead(file); }) == ErrorCode::file);
  for (const char* name : {"logger", "cut", "behind", "half", "refused", "stopped", "back"}) {
    CAPTURE(name);
    const auto disk = open_device(bench.at(std::string(name) + ".img"), {false, 512});
    const CaseRecord record = read_record(bench.at(std::string(name) + "-case"), disk.get());
    const std::string page = report_html(record, head);
    CHECK(page.find("Ilse Quarrow, bench 4 &lt;on site&gt;") != std::string::npos);
    CHECK(page.find("The tide station") != std::string::npos);
    CHECK(page.find("OR-17") != std::string::npos);
    const std::size_t owner = page.find("<header");
    std::string first = page.substr(owner, page.find("<section id=\"disk\"") - owner);
    // The model and what ended it are in the trade's own words.
    if (const std::size_t why = first.find("<section id=\"why\""); why != std::string::npos)
      first.resize(why);
    for (const char* word : {"GPT", "MBR", "hash", " tag", "nuvrat re"})
      CHECK_MESSAGE(first.find(word) == std::string::npos, word);
  }
}

TEST_CASE("report: names from a disk stay names on the page") {
  const support::Folder folder;
  const auto path = folder / "d.img";
  support::make_small_disk(path, 40960, 20, 32768);
  const auto device = open_device(path, {true, 512});
  Random random(3);
  Assessment plan =
      assess(*device, {parse_goal("table=gpt")}, support::utc(), random);  // no room in front
  REQUIRE_FALSE(plan.in_reach());
  const std::string evil = "<script>alert(1)</script>\"&\x1b[31m";
  plan.contents.at(0).label = evil;
  plan.obstacles.at(0).text = evil;
  plan.device.model = evil;
  JobOptions options;
  options.case_folder = folder / "case";
  record_refusal(*device, plan, options);
  const std::string page = report_html(read_record(folder / "case"));
  CHECK(page.find("<script") == std::string::npos);
  CHECK(page.find('\x1b') == std::string::npos);
  CHECK(page.find("&lt;script&gt;alert(1)&lt;/script&gt;&quot;&amp;") != std::string::npos);
}

TEST_CASE("report: what is left to the owner follows from what was done") {
  const auto codes = [](const Assessment& a) {
    std::string out;
    for (const NextStep& step : next_steps(a)) out += step.code + " ";
    return out;
  };
  Assessment a;
  a.before.kind = TableKind::mbr;
  a.after.kind = TableKind::gpt;
  CHECK(codes(a).empty());  // it holds nothing
  a.consents = {{.code = ConsentCode::firmware}};
  CHECK(codes(a) == "firmware ");
  CHECK(next_steps(a)[0].text.find("it has none") != std::string::npos);
  Partition efi;
  efi.number = 2;
  efi.role = Role::gpt;
  efi.type = efi_system_guid();
  a.after.partitions = {efi};
  CHECK(next_steps(a)[0].text.find("EFI system partition, p2") != std::string::npos);
  CHECK(codes(a) == "firmware letters new look ");
  a.consents.clear();
  CHECK(codes(a) == "letters new look ");  // nothing says that it ever booted
  a.consents = {{.code = ConsentCode::firmware}};
  std::swap(a.before, a.after);
  CHECK(next_steps(a)[0].text.find("no partition is active") != std::string::npos);
  Partition active;
  active.number = 3;
  active.active = true;
  a.after.partitions = {active};
  CHECK(next_steps(a)[0].text.find("p3 is active") != std::string::npos);
  a.after.give_ids();
  a.before = a.after;
  a.before.partitions[0].number = 5;
  CHECK(codes(a) == "numbers look ");
  CHECK(next_steps(a)[0].text.find("p5 is now p3.") != std::string::npos);
  const PartitionId id = a.before.partitions[0].id;
  a.after.partitions[0].id = PartitionId{7};
  CHECK(codes(a) == "new look ");  // another one, though it begins where the first did
  a.after.partitions[0].id = id;
  a.after.partitions[0].start = 2048;
  a.changes = {{.kind = ExpectedChange::Kind::begins, .partition = id, .size = 2048}};
  CHECK(codes(a) == "letters numbers look ");  // the same one
  a.changes.clear();
  a.contents = {{.partition = id, .kind = "fat32", .kind_after = "ntfs"}};
  CHECK(codes(a) == "loader system-check letters numbers look ");
}

TEST_CASE("json: every verb's object is what its schema says, events too") {
  const Bench bench;
  std::string files;
  int count = 0;
  const auto keep = [&](const std::string& words, int status) {
    const auto ran = tool(words);
    CHECK_MESSAGE(ran.status == status, words);
    const std::string name = bench.at(fmt::format("{}.json", count++));
    std::ofstream(name) << ran.out;
    files += " " + name;
  };
  const std::string cut = bench.at("cut.img");
  for (const char* disk : {"logger", "archive", "stick", "worn", "cut"}) {
    keep("survey --json " + bench.at(std::string(disk) + ".img"), 0);
    keep("assess --json " + bench.at(std::string(disk) + ".img"), 0);
  }
  keep("check --json " + cut, 0);
  keep("manifest --json --timezone UTC -o " + bench.at("m") + " " + cut, 0);
  keep("verify --json --against " + bench.at("m") + " " + cut, 0);
  keep("verify --json --against " + bench.at("m") + " " + bench.at("archive.img"), 1);
  keep("assess --json " + cut + " table=gpt p5=ntfs", 0);
  keep("assess --json " + bench.at("refused.img") + " table=mbr p1=logical p2=primary p3=logical",
       3);
  keep("rewrite --json " + bench.at("refused.img") + " table=mbr p1=logical p2=primary p3=logical",
       3);
  keep("resume --json --events " + bench.at("resumed.jsonl") + " --confirm " + bench.tag("behind") +
           " " + bench.at("behind-case"),
       0);
  keep("revert --json --confirm " + bench.tag("cut") + " " + bench.at("cut-case"), 0);
  keep("survey --json /nowhere", 2);
  keep("survey --json", 0);
  keep("files --json " + cut + " p1", 0);
  keep("fetch --json " + cut + " p1 / -o " + bench.at("fetched"), 0);
  keep("rewrite --rehearse --json --timezone UTC --case-in-memory --case " + bench.at("rehearsed") +
           " " + bench.at("archive.img") + " table=gpt",
       0);
  keep("report --json " + bench.at("rehearsed"), 0);
  std::filesystem::copy_file(bench.at("archive.img"), bench.at("by-places.img"));
  keep("rewrite --proof places --json --timezone UTC --confirm " + bench.tag("by-places") +
           " --case-in-memory --case " + bench.at("by-places") + " " + bench.at("by-places.img") +
           " table=gpt",
       0);
  keep("report --json " + bench.at("by-places"), 0);
  keep("verify --json --against " + bench.at("by-places/after.manifest") + " " +
           bench.at("by-places.img"),
       0);
  // A volume whose boot sector is lost, and put back.
  const std::string lost = bench.at("lost.img");
  std::filesystem::copy_file(bench.at("logger.img"), lost);
  {
    const auto device = open_device(lost, {true});
    device->write(read_table(*device).layout.find(1)->start, Bytes(512));
  }
  keep("check --json " + lost, 1);
  keep("files --json " + lost + " p1", 0);
  keep("check --repair --json --timezone UTC --confirm " + bench.tag("lost") +
           " --case-in-memory --case " + bench.at("lost-case") + " " + lost,
       0);
  keep("report --json " + bench.at("lost-case"), 0);
  for (const std::string& path : bench.cases()) keep("report --json " + path, 0);
  for (const char* disk : {"logger", "cut", "stopped", "resumed"})
    files += " " + bench.at(std::string(disk) + ".jsonl");
  const auto ran = support::run(fmt::format("/usr/bin/python3 {}/schema_check.py {}{}",
                                            NUVRAT_TESTS_FOLDER, NUVRAT_SCHEMAS, files));
  CHECK_MESSAGE(ran.status == 0, ran.out, ran.errors);
  MESSAGE(ran.out);

  // Every stage in order, progress only forwards and to the end, one line at the close.
  const std::vector<Json> events = lines_of(bench.at("logger.jsonl"));
  std::vector<std::string> stages;
  std::uint64_t done = 0;
  for (const Json& e : events) {
    if (e.at("event") == "stage") {
      stages.push_back(e.at("stage"));
      done = 0;
    } else if (e.at("event") == "progress") {
      CHECK(e.at("stage") == stages.back());
      CHECK(e.at("done_bytes").get<std::uint64_t>() > done);
      done = e.at("done_bytes");
    }
  }
  // The share of the whole job only grows, of one that is gone on with, too.
  for (const char* job : {"logger", "resumed"}) {
    CAPTURE(std::string(job));
    double share = 0;
    for (const Json& e : lines_of(bench.at(std::string(job) + ".jsonl"))) {
      if (!e.contains("job_share")) continue;
      CHECK(e.at("job_share").get<double>() >= share);
      share = e.at("job_share");
    }
    CHECK(share > 0.5);
    CHECK(share <= 1);
  }
  CHECK(std::count(stages.begin(), stages.end(), "MBR to GPT: switch") == 1);
  CHECK(std::count(stages.begin(), stages.end(), "recording p1") == 1);
  CHECK(std::count(stages.begin(), stages.end(), "comparing p1") == 1);
  CHECK(events.back().at("event") == "end");
  CHECK(events.back().at("status") == 0);
  CHECK(lines_of(bench.at("cut.jsonl")).back().at("status") == 5);
  CHECK(lines_of(bench.at("stopped.jsonl")).back().at("status") == 3);
}

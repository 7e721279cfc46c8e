// The whole machine fails: the power takes what neither disk had on its medium, memory runs out,
// the case can't be read. What the program does to every file is recorded once, and cut everywhere.

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/core.h>
#include <sys/stat.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;
namespace fs = std::filesystem;

namespace {

struct Operation {
  char kind;
  std::string path, to;
  std::uint64_t file = 0, at = 0;
  Bytes data;
};

std::vector<Operation> read_trace(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  std::vector<Operation> out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    REQUIRE(end != text.npos);
    const std::string line = text.substr(at, end - at);
    at = end + 1;
    Operation o{line.at(0), {}, {}, 0, 0, {}};
    const std::string rest = line.substr(2);
    const std::size_t tab = rest.find('\t');
    std::istringstream words(rest);
    if (o.kind == 'W' || o.kind == 'T' || o.kind == 'S') words >> o.file >> o.at;
    if (o.kind == 'W') {
      std::size_t size = 0;
      words >> size;
      o.data.assign(text.begin() + static_cast<long>(at),
                    text.begin() + static_cast<long>(at + size));
      at += size;
    } else if (o.kind == 'C') {
      o.path = rest.substr(0, tab);
      o.file = std::stoull(rest.substr(tab + 1));
    } else if (o.kind != 'T' && o.kind != 'S') {
      o.path = rest.substr(0, tab);
      if (tab != rest.npos) o.to = rest.substr(tab + 1);
    }
    out.push_back(std::move(o));
  }
  return out;
}

enum class Lost { everything, nothing, some };

// What is on the media when the power fails: what was synced, and as it may happen what wasn't.
class Media {
 public:
  Media(std::uint64_t image, std::uint64_t seed, Lost lost)
      : image_(image), lost_(lost), random_(seed) {}

  void apply(const Operation& o) {
    switch (o.kind) {
      case 'C':
        folders_[fs::path(o.path).parent_path()].push_back(o);
        break;
      case 'M':
      case 'R':
      case 'U':
        folders_[fs::path(o.path).parent_path()].push_back(o);
        break;
      case 'D':
        for (const Operation& each : folders_[o.path]) name(each);
        folders_[o.path].clear();
        break;
      case 'S':
        for (const Operation& each : pending_[o.file]) write(each);
        pending_[o.file].clear();
        break;
      default:
        pending_[o.file].push_back(o);
    }
  }

  // Names in their order up to some point, contents as they happen to be; a long write in parts.
  void fail() {
    for (auto& [folder, all] : folders_) {
      const std::size_t kept = lost_ == Lost::everything ? 0
                               : lost_ == Lost::nothing  ? all.size()
                                                         : random_.below(all.size() + 1);
      for (std::size_t i = 0; i < kept; ++i) name(all[i]);
    }
    for (auto& [file, all] : pending_) {
      for (const Operation& o : all) {
        constexpr std::size_t piece = 4096;
        for (std::size_t from = 0; from < std::max<std::size_t>(o.data.size(), 1); from += piece) {
          if (lost_ == Lost::everything || (lost_ == Lost::some && random_.below(2) == 0)) continue;
          Operation part = o;
          part.at += from;
          const std::size_t end = std::min(o.data.size(), from + piece);
          if (o.kind == 'W')
            part.data.assign(o.data.begin() + static_cast<long>(from),
                             o.data.begin() + static_cast<long>(end));
          write(part);
        }
      }
    }
  }

  void give(MemoryDevice& disk, const fs::path& root, const fs::path& folder) const {
    for (const Operation& o : image_writes_) disk.write(o.at / disk.sector_size(), o.data);
    for (const std::string& path : made_) fs::create_directories(folder / fs::relative(path, root));
    for (const auto& [path, file] : names_) {
      const fs::path place = folder / fs::relative(path, root);
      if (!fs::exists(place.parent_path())) continue;  // its folder is not there
      const auto contents = contents_.find(file);
      std::ofstream out(place, std::ios::binary);
      if (contents != contents_.end())
        out.write(reinterpret_cast<const char*>(contents->second.data()),
                  static_cast<long>(contents->second.size()));
    }
  }
  [[nodiscard]] bool image_written() const { return !image_writes_.empty(); }

 private:
  void name(const Operation& o) {
    if (o.kind == 'C') names_[o.path] = o.file;
    if (o.kind == 'M') made_.push_back(o.path);
    if (o.kind == 'U') names_.erase(o.path);
    if (o.kind == 'R' && names_.count(o.path) > 0) {
      names_[o.to] = names_[o.path];
      names_.erase(o.path);
    }
  }
  void write(const Operation& o) {
    if (o.file == image_) {
      if (o.kind == 'W') image_writes_.push_back(o);
      return;
    }
    Bytes& bytes = contents_[o.file];
    if (o.kind == 'T') {
      bytes.resize(o.at);
      return;
    }
    bytes.resize(std::max<std::size_t>(bytes.size(), o.at + o.data.size()));
    std::copy(o.data.begin(), o.data.end(), bytes.begin() + static_cast<long>(o.at));
  }

  std::uint64_t image_;
  Lost lost_;
  Random random_;
  std::map<fs::path, std::vector<Operation>> folders_;  // names that no folder has synced yet
  std::map<std::uint64_t, std::vector<Operation>> pending_;
  std::map<std::string, std::uint64_t> names_;
  std::vector<std::string> made_;
  std::map<std::uint64_t, Bytes> contents_;
  std::vector<Operation> image_writes_;
};

// A rewrite with the tool under the shim, on an image of its own.
struct Workbench {
  explicit Workbench(const scenarios::Scenario& wanted) : scenario(wanted) {
    scenarios::make_image(image, scenario);
    original = support::disk(scenario.sectors, scenario.sector_size);
    scenario.make(*original);
    tag = disk_tag(*original, read_table(*original));
    seal = take_manifest(*original, utc(), silent).seal();
  }
  [[nodiscard]] std::string words(const std::string& verb) const {
    std::string out =
        fmt::format("{} --timezone UTC --sector-size {} --confirm {} --case {} {}", verb,
                    scenario.sector_size, tag, (root / "case").string(), image.string());
    for (const std::string& goal : scenario.goals) out += " " + goal;
    return out;
  }
  [[nodiscard]] support::Ran run(const std::string& settings, const std::string& arguments) const {
    return support::run(fmt::format("NUVRAT_ROOT={} {} LD_PRELOAD={} {} {}", root.path().string(),
                                    settings, NUVRAT_SHIM, NUVRAT_TOOL, arguments));
  }
  void again() const {
    fs::remove_all(root / "case");
    fs::remove(image);
    scenarios::make_image(image, scenario);
  }
  [[nodiscard]] std::unique_ptr<MemoryDevice> now() const {
    const auto device = open_device(image, {false, scenario.sector_size});
    auto out = support::disk(scenario.sectors, scenario.sector_size);
    copy_device(*device, *out);
    return out;
  }

  const scenarios::Scenario& scenario;
  support::Folder root;
  fs::path image = root / "disk.img";
  std::unique_ptr<MemoryDevice> original;
  QuietProgress silent;
  std::string tag, seal;
};

struct MachineTally {
  std::uint64_t cuts = 0, no_case = 0, reverted = 0, resumed = 0;
};

void cut_machine(const Workbench& bench, const std::vector<Operation>& trace, std::size_t length,
                 std::uint64_t image_file, Lost lost, std::uint64_t seed, MachineTally& tally) {
  CAPTURE(length);
  CAPTURE(static_cast<int>(lost));
  QuietProgress silent;
  Media media(image_file, seed, lost);
  for (std::size_t i = 0; i < length; ++i) media.apply(trace[i]);
  media.fail();
  const support::Folder folder(support::Folder::Where::memory);
  const auto disk = bench.original->clone();
  media.give(*disk, bench.root.path(), folder.path());
  ++tally.cuts;
  CHECK(take_manifest(*disk, utc(), silent).seal() == bench.seal);
  const auto job = folder / "case";
  std::optional<CaseFile> file;
  try {
    file = load_case(job);
  } catch (const Error& e) {
    // Nothing was written before all of the case was on its medium.
    CHECK_MESSAGE(disk->same_as(*bench.original), e.message());
    ++tally.no_case;
    return;
  }
  fs::copy(job, folder / "other", fs::copy_options::recursive);
  const auto other = disk->clone();
  CHECK(resume_case(*other, load_case(folder / "other"), silent).sound());
  ++tally.resumed;
  (void)revert_case(*disk, *file, {}, silent);
  CHECK(disk->same_as(*bench.original));
  ++tally.reverted;
}

}  // namespace

TEST_CASE("machine: the power takes both disks, at every moment, whatever was not synced") {
  MachineTally tally;
  std::size_t rewrites = 0;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    if (rewrites == 4 && !support::is_long()) break;
    if (scenario.goals.empty()) continue;
    ++rewrites;
    CAPTURE(scenario.name);
    const Workbench bench(scenario);
    struct stat info {};
    REQUIRE(::stat(bench.image.c_str(), &info) == 0);
    const support::Folder other;
    const auto ran =
        bench.run("NUVRAT_TRACE=" + (other / "trace").string(), bench.words("rewrite"));
    REQUIRE_MESSAGE(ran.status == 0, ran.errors);
    const std::vector<Operation> trace = read_trace(other / "trace");
    Random random(rewrites);
    for (std::size_t length = 0; length <= trace.size(); ++length) {
      // Of hundreds of writes in a row, some.
      const bool between = length > 0 && length < trace.size() && trace[length].kind == 'W' &&
                           trace[length - 1].kind == 'W';
      if (between && trace.size() > 200 && random.below(trace.size()) > 60) continue;
      // What is synced changes by syncing alone, and what was done in all by anything else.
      const bool synced =
          length > 0 && (trace[length - 1].kind == 'S' || trace[length - 1].kind == 'D');
      const auto cut = [&](Lost lost) {
        cut_machine(bench, trace, length, info.st_ino, lost, length, tally);
      };
      if (synced || length == 0) cut(Lost::everything);
      if (!synced) cut(Lost::nothing);
      cut(Lost::some);
    }
  }
  MESSAGE("machine: " << tally.cuts << " cuts of both disks over " << rewrites << " rewrites: "
                      << tally.no_case << " before there was a case, " << tally.resumed
                      << " resumed, " << tally.reverted << " put back to the byte");
  CHECK(tally.reverted > 100);
}

TEST_CASE("machine: memory runs out at any moment, and what is said of the disk is true") {
  std::map<int, int> statuses;
  std::uint64_t tries = 0;
  for (const std::size_t which : {0u, 1u}) {
    const Workbench bench(scenarios::all()[which]);
    CAPTURE(bench.scenario.name);
    QuietProgress silent;
    Random random(support::seed(which));
    // How many allocations there are, found by doubling.
    std::uint64_t most = 64;
    const int rounds = support::is_long() ? 400 : 60;
    for (int round = 0; round < rounds; ++round) {
      const bool probing = round < 24 && statuses[0] == 0;
      const std::uint64_t at = probing ? most : 1 + random.below(most);
      if (probing) most *= 2;
      const std::string plan = fmt::format("NUVRAT_NO_MEMORY={}{}", at, round % 2 == 0 ? "+" : "");
      CAPTURE(plan);
      const auto ran = bench.run(plan, bench.words("rewrite"));
      CAPTURE(ran.errors);
      ++tries;
      ++statuses[ran.status];
      CHECK(ran.status >= 0);
      CHECK(ran.status <= 5);
      const auto now = bench.now();
      CHECK(take_manifest(*now, utc(), silent).seal() == bench.seal);
      const bool changed = !now->same_as(*bench.original);
      if (ran.status >= 2 && ran.status <= 4) CHECK_FALSE(changed);
      if (changed) {
        {
          const auto disk = open_device(bench.image, {true, bench.scenario.sector_size});
          (void)revert_case(*disk, load_case(bench.root / "case"), {}, silent);
        }
        CHECK(bench.now()->same_as(*bench.original));
      }
      bench.again();
    }
  }
  std::string text;
  for (const auto& [status, count] : statuses) text += fmt::format(" {} with {}", count, status);
  MESSAGE("machine: memory ran out " << tries << " times; ended:" << text);
}

TEST_CASE(
    "machine: threads that can't be started end in words, with the disk as it is said to be") {
  const Workbench bench(scenarios::all()[0]);
  QuietProgress silent;
  std::map<int, int> statuses;
  for (unsigned at = 1; at < 60; at += 4) {
    CAPTURE(at);
    const auto ran = bench.run(fmt::format("NUVRAT_NO_THREADS={}", at), bench.words("rewrite"));
    ++statuses[ran.status];
    CHECK(ran.status <= 5);
    const auto now = bench.now();
    const bool changed = !now->same_as(*bench.original);
    CHECK(take_manifest(*now, utc(), silent).seal() == bench.seal);
    if (ran.status >= 2 && ran.status <= 4) CHECK_FALSE(changed);
    if (ran.status != 0) CHECK_FALSE(ran.errors.empty());
    if (changed) {
      {
        const auto disk = open_device(bench.image, {true, bench.scenario.sector_size});
        (void)revert_case(*disk, load_case(bench.root / "case"), {}, silent);
      }
      CHECK(bench.now()->same_as(*bench.original));
    }
    bench.again();
  }
  CHECK(statuses[4] > 0);
}

TEST_CASE("machine: a case that can't be read is damage, said as such, and nothing is done") {
  const Workbench bench(scenarios::all()[0]);
  REQUIRE(bench.run("", bench.words("rewrite")).status == 0);
  const auto after = bench.now();
  const std::string job = (bench.root / "case").string();
  const std::string tag = disk_tag(*after, read_table(*after));
  const std::string before = support::fingerprint(bench.root / "case/undo.journal");
  for (const char* verb : {"revert", "resume"}) {
    CAPTURE(verb);
    const auto ran =
        bench.run("NUVRAT_NO_READ=undo.journal", fmt::format("{} --confirm {} {}", verb, tag, job));
    CHECK(ran.status == 4);
    CHECK(ran.errors.find("can't be read") != std::string::npos);
    CHECK(bench.now()->same_as(*after));
    CHECK(support::fingerprint(bench.root / "case/undo.journal") == before);
  }
}

// Disks behind an address: a server on this machine offers an image, and dies in the middle.

#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <thread>

#include <fmt/core.h>
#include <sys/wait.h>
#include <unistd.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;
namespace fs = std::filesystem;

namespace {

class Server {
 public:
  // A child of this process, not a daemon: it has begun when its file of the process number is
  // written, and it is gone when it was waited for.
  Server(const fs::path& image, const fs::path& socket, const std::string& options = "",
         const std::string& parameters = "")
      : Server(socket, fmt::format("{} file {} {}", options, image.string(), parameters)) {}
  Server(const fs::path& socket, const std::string& words) {
    fs::remove(socket);
    const auto ready = fs::path(socket.string() + ".pid");
    fs::remove(ready);
    pid_ = ::fork();
    REQUIRE(pid_ >= 0);
    if (pid_ == 0) {
      const std::string command =
          fmt::format("exec nbdkit -f -U {} -P {} {}", socket.string(), ready.string(), words);
      ::execl("/bin/sh", "sh", "-c", command.c_str(), nullptr);
      ::_exit(127);
    }
    const auto limit = std::chrono::steady_clock::now() + std::chrono::seconds(60);
    while (!fs::exists(ready) || fs::file_size(ready) == 0) {
      REQUIRE_MESSAGE(::waitpid(pid_, nullptr, WNOHANG) == 0, "the server ended: " << words);
      REQUIRE(std::chrono::steady_clock::now() < limit);
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    address_ = "nbd+unix:///?socket=" + socket.string();
  }
  Server(const Server&) = delete;
  Server& operator=(const Server&) = delete;
  ~Server() { stop(); }
  void stop() {
    if (pid_ > 0) ::kill(pid_, SIGKILL);
    if (pid_ > 0) ::waitpid(pid_, nullptr, 0);
    pid_ = 0;
  }
  [[nodiscard]] const std::string& address() const { return address_; }

 private:
  pid_t pid_ = 0;
  std::string address_;
};

bool has_server() {
  if (support::run("command -v nbdkit").status == 0) return true;
  MESSAGE("SKIPPED: there is no server");
  return false;
}

// What a server was asked for, as its log says, from one look to the next.
class Asked {
 public:
  explicit Asked(fs::path log) : log_(std::move(log)) {}

  // How often each sector was asked for since the last look.
  std::map<std::uint64_t, unsigned> look() {
    std::ifstream in(log_);
    in.seekg(static_cast<std::streamoff>(seen_));
    std::map<std::uint64_t, unsigned> out;
    for (std::string line; std::getline(in, line);) {
      seen_ += line.size() + 1;
      unsigned long long offset = 0, count = 0;
      const std::size_t at = line.find(" Read ");
      if (at == line.npos) continue;
      REQUIRE(std::sscanf(line.c_str() + line.find("offset=", at), "offset=%llx count=%llx",
                          &offset, &count) == 2);
      for (unsigned long long i = 0; i < count / 512; ++i) ++out[offset / 512 + i];
    }
    return out;
  }

 private:
  fs::path log_;
  std::uint64_t seen_ = 0;
};

}  // namespace

TEST_CASE("nbd: survey, check, plan, manifest and rehearsal ask once for what they all read") {
  if (!has_server()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  const auto log = folder / "log";
  const Server server(image, folder / "socket", "--filter=log", "logfile=" + log.string());
  const auto device = open_device(server.address(), {true, 512});
  Asked asked(log);
  (void)asked.look();
  Random random(1);
  const Assessment a =
      assess(*device, {parse_goal("table=gpt"), parse_goal("p1=ntfs")}, utc(), random);
  REQUIRE(a.in_reach());
  const std::uint64_t p1 = a.before.partitions.at(0).start;
  const SectorRange sample{p1, (256u << 10) / 512};  // what the device's pace is measured on
  std::size_t sectors = 0;
  for (const auto& [lba, times] : asked.look()) {
    CHECK(times <= (sample.contains(lba) ? 2 : 1));
    ++sectors;
  }
  CHECK(sectors > 1000);

  JobOptions options = support::case_in_memory(folder / "case");
  options.proof = Proof::places;
  QuietProgress quiet;
  (void)rehearse_job(*device, a, options, quiet);
  sectors = 0;
  for (const auto& [lba, times] : asked.look()) {
    CHECK(times == 1);
    ++sectors;
  }
  CHECK(sectors > 500);

  std::map<std::uint64_t, unsigned> until_settled;
  support::AtStage look([&](std::string_view stage) {
    if (stage == "MBR to GPT: settle") until_settled = asked.look();
  });
  const JobResult result = run_job(*device, a, options, look);
  CHECK(result.sound());
  SectorSet written;
  for (const WrittenRange& w : result.written) written.add(device->whole_physical(w.range));
  SectorSet witnesses;
  for (const Partition& p : a.before.data_partitions()) witnesses.add({p.start, 8});
  const auto require_once = [&](const std::map<std::uint64_t, unsigned>& reads) {
    for (const auto& [lba, times] : reads) {
      // What is written is asked for by each step's journal as well, and read back; what bears
      // witness of the disk is asked for anew before the first write.
      if (written.contains(SectorRange{lba, 1})) continue;
      CHECK_MESSAGE(times <= (witnesses.contains({lba, 1}) ? 2 : 1), lba);
    }
    return reads.size();
  };
  CHECK(require_once(until_settled) > 500);  // recorded, rehearsed, and prepared from
  CHECK(require_once(asked.look()) > 4000);  // compared
}

TEST_CASE("nbd: somebody else's write is noticed before the first of the job") {
  if (!has_server()) return;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  for (const char* stage : {"recording p1", "rehearsing", "nothing"}) {
    CAPTURE(stage);
    const support::Folder folder;
    const auto image = folder / "disk.img";
    scenarios::make_image(image, scenario);
    const std::string before = support::fingerprint(image);
    const Server server(image, folder / "socket");
    const auto device = open_device(server.address(), {true, 512});
    const auto other = open_device(server.address(), {true, 512});
    Random random(1);
    const Assessment a = assess(*device, {parse_goal("table=gpt")}, utc(), random);
    REQUIRE(a.in_reach());
    const std::uint64_t p1 = a.before.partitions.at(0).start;
    const Bytes boot = other->read(p1);
    support::AtStage meddler([&](std::string_view name) {
      if (name != stage) return;
      Bytes changed = boot;
      changed[200] ^= 1u;  // in the boot code
      other->write(p1, changed);
      other->flush();
    });
    JobOptions options = support::case_in_memory(folder / "case");
    options.proof = Proof::places;
    if (std::string_view(stage) == "nothing") {
      CHECK(run_job(*device, a, options, meddler).sound());
      continue;
    }
    CHECK(support::code_of([&] { (void)run_job(*device, a, options, meddler); }) ==
          ErrorCode::busy);
    other->write(p1, boot);
    other->flush();
    CHECK(support::fingerprint(image) == before);
  }
}

TEST_CASE("nbd: a bad sector is found in the piece that failed, and asked for once") {
  if (!has_server()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  const auto log = folder / "log";
  create_image(image, 4096, 512, true);
  Bytes content(512, 0x51);
  open_device(image, {true, 512})->write(1500, content);
  const Server server(
      folder / "socket",
      fmt::format("--filter=log eval logfile={0} get_size='echo 2097152' "
                  "can_write='exit 0' can_flush='exit 0' flush='exit 0' pwrite='cat >{2}' "
                  "pread='if [ ! -e {2} ] && [ $4 -le 704512 ] && [ $(($4 + $3)) -gt 704512 ]; "
                  "then echo EIO bad sector >&2; exit 1; fi; "
                  "dd if={1} iflag=skip_bytes,count_bytes skip=$4 count=$3 status=none'",
                  log.string(), image.string(), (folder / "written").string()));
  const auto device = open_device(server.address(), {true, 512});
  Asked asked(log);
  const auto bad_of = [&](std::uint64_t lba, std::uint64_t count) -> std::optional<std::uint64_t> {
    try {
      (void)device->read(lba, count);
      return std::nullopt;
    } catch (const Error& e) {
      CHECK(e.code() == ErrorCode::device_read);
      return e.place().sector;
    }
  };
  (void)asked.look();
  CHECK(bad_of(0, 4096) == 1376u);
  CHECK(asked.look().at(1376) > 1);  // until it was found
  CHECK(bad_of(1000, 1000) == 1376u);
  CHECK(bad_of(1376, 1) == 1376u);
  CHECK(asked.look().count(1376) == 0);
  CHECK(device->read(1500) == content);
  CHECK_FALSE(bad_of(1377, 2000).has_value());
  device->write(1376, content);  // on a medium that has others in store
  CHECK_FALSE(bad_of(0, 4096).has_value());
}

TEST_CASE("nbd: what was kept of a server's answers is never what was there before") {
  if (!has_server()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  create_image(image, 4096, 512, true);
  const Server server(image, folder / "socket");
  const auto one = open_device(server.address(), {true, 512});
  const auto other = open_device(server.address(), {true, 512});
  Random random(11);
  MemoryDevice truth(4096, 512);
  for (int round = 0; round < 400; ++round) {
    const SectorRange range{random.below(4000), 1 + random.below(96)};
    Bytes data(range.count * 512);
    switch (random.below(5)) {
      case 0:
        random.fill(data);
        one->write(range.first, data);
        one->flush();
        truth.write(range.first, data);
        break;
      case 1:  // by somebody else
        random.fill(data);
        other->write(range.first, data);
        other->flush();
        truth.write(range.first, data);
        round % 2 == 0 ? one->refresh() : one->forget({range.first, range.count});
        break;
      case 2:
        one->read_once(range.first, data);
        CHECK(data == truth.read(range.first, range.count));
        break;
      default:
        CHECK(one->read(range.first, range.count) == truth.read(range.first, range.count));
    }
  }
}

TEST_CASE("nbd: a disk behind an address is rewritten and put back like one at hand") {
  if (!has_server()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  const auto twin = folder / "twin.img";
  const scenarios::Scenario& scenario = scenarios::all()[0];
  scenarios::make_image(image, scenario);
  fs::copy_file(image, twin);
  const std::string before = support::fingerprint(image);
  const Server server(image, folder / "socket");
  const auto survey = support::tool(fmt::format("survey '{}'", server.address()));
  CHECK(survey.status == 0);
  CHECK(survey.out.find("network disk") != std::string::npos);
  const std::string tag = [&] {
    const auto device = open_device(server.address());
    CHECK(device->identity().kind == DeviceKind::network);
    return disk_tag(*device, read_table(*device));
  }();
  const auto folder_of = [&](const char* name) { return (folder / name).string(); };
  const auto rewrite = [&](const std::string& disk, const char* job) {
    return support::tool(fmt::format(
        "rewrite '{}' table=gpt p1=ntfs --timezone UTC --seed 1 --case-in-memory --confirm {} "
        "--case {}",
        disk, tag, folder_of(job)));
  };
  const auto there = rewrite(server.address(), "there");
  CHECK_MESSAGE(there.status == 0, there.out, there.errors);
  // What was read back may have come from the server's memory: said.
  CHECK(there.out.find("read past its memory") != std::string::npos);
  CHECK(rewrite(twin.string(), "here").status == 0);
  const auto now = [](const std::string& disk) {
    QuietProgress quiet;
    return take_manifest(*open_device(disk), utc(), quiet).seal();
  };
  CHECK(now(image.string()) == now(twin.string()));
  const std::string tag_after = [&] {
    const auto device = open_device(server.address());
    return disk_tag(*device, read_table(*device));
  }();
  const auto back =
      support::tool(fmt::format("revert {} --confirm {}", folder_of("there"), tag_after));
  CHECK_MESSAGE(back.status == 0, back.out, back.errors);
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("nbd: a server that dies is a device that fails: nothing changed, or the case goes on") {
  if (!has_server()) return;
  const scenarios::Scenario& scenario = scenarios::all()[0];
  for (const char* stage : {"recording p1", "MBR to GPT: prepare", "MBR to GPT: settle"}) {
    CAPTURE(stage);
    const support::Folder folder;
    const auto image = folder / "disk.img";
    scenarios::make_image(image, scenario);
    const std::string before = support::fingerprint(image);
    {
      Server server(image, folder / "socket");
      const auto device = open_device(server.address(), {true, 512});
      Random random(1);
      const Assessment a = assess(*device, {parse_goal("table=gpt")}, utc(), random);
      REQUIRE(a.in_reach());
      support::AtStage killer([&](std::string_view name) {
        if (name.find(stage) != name.npos) server.stop();
      });
      const ErrorCode code = support::code_of(
          [&] { (void)run_job(*device, a, support::case_in_memory(folder / "case"), killer); });
      const bool early = std::string_view(stage).starts_with("recording");
      // What was not given counts as unreadable, and nobody agreed to that.
      CHECK(code == (early ? ErrorCode::refused : ErrorCode::cut_off));
      if (early) CHECK(support::fingerprint(image) == before);
    }
    if (support::fingerprint(image) == before && std::string_view(stage).starts_with("recording"))
      continue;
    const Server again(image, folder / "socket");
    const auto device = open_device(again.address(), {true, 512});
    QuietProgress quiet;
    CHECK(resume_case(*device, load_case(folder / "case"), quiet).sound());
    (void)revert_case(*device, load_case(folder / "case"), {}, quiet);
    CHECK(support::fingerprint(image) == before);
  }
}

TEST_CASE("nbd: what a server can't do is said before anything is read") {
  if (!has_server()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  CHECK(support::code_of([] { (void)open_device("nbd+unix:///?socket=/nowhere"); }) ==
        ErrorCode::words);
  const Server server(image, folder / "socket", "-r");
  CHECK(open_device(server.address())->identity().read_only);
  CHECK(support::code_of([&] { (void)open_device(server.address(), {true}); }) ==
        ErrorCode::refused);
}

// Disks behind an address: a server on this machine offers an image, and dies in the middle.

#include <chrono>
#include <csignal>
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
  Server(const fs::path& image, const fs::path& socket, const std::string& options = "") {
    fs::remove(socket);
    const auto ready = fs::path(socket.string() + ".pid");
    fs::remove(ready);
    pid_ = ::fork();
    REQUIRE(pid_ >= 0);
    if (pid_ == 0) {
      const std::string command = fmt::format("exec nbdkit -f {} -U {} -P {} file {}", options,
                                              socket.string(), ready.string(), image.string());
      ::execl("/bin/sh", "sh", "-c", command.c_str(), nullptr);
      ::_exit(127);
    }
    const auto limit = std::chrono::steady_clock::now() + std::chrono::seconds(60);
    while (!fs::exists(ready) || fs::file_size(ready) == 0) {
      REQUIRE_MESSAGE(::waitpid(pid_, nullptr, WNOHANG) == 0, "the server ended: " << options);
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

// Kills the server when a stage begins.
class Killer final : public Progress {
 public:
  Killer(Server& server, std::string stage) : server_(server), stage_(std::move(stage)) {}
  void stage(std::string_view name, std::uint64_t) override {
    if (name.find(stage_) != name.npos) server_.stop();
  }
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return false; }

 private:
  Server& server_;
  std::string stage_;
};

}  // namespace

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
      Killer killer(server, stage);
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

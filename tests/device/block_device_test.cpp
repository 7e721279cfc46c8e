// On block devices of the kernel's own: what it remembers, what it forbids, under how many names
// one disk can be had.

#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include <fcntl.h>
#include <fmt/core.h>
#include <unistd.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
namespace fs = std::filesystem;

namespace {

bool loops_are_there() {
  if (::geteuid() == 0 && support::run("losetup -f").status == 0) return true;
  MESSAGE("SKIPPED: loop devices can't be had here");
  return false;
}

class Loop {
 public:
  explicit Loop(const fs::path& image, const std::string& options = "") {
    name_ = support::run(fmt::format("losetup --show -f {} {}", options, image.string())).out;
    REQUIRE(name_.size() > 1);
    name_.pop_back();
  }
  // While anybody looks at the node, as another test's tool may, the kernel puts its end off.
  ~Loop() {
    support::run("losetup -d " + name_);
    const fs::path file = fs::path("/sys/block") / fs::path(name_).filename() / "loop/backing_file";
    for (unsigned i = 0; i < 500 && fs::exists(file); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  Loop(const Loop&) = delete;
  Loop& operator=(const Loop&) = delete;
  [[nodiscard]] const std::string& name() const { return name_; }

 private:
  std::string name_;
};

struct Disk {
  Disk() {
    scenarios::make_image(image, scenarios::all()[0]);
    const auto device = open_device(image);
    tag = disk_tag(*device, read_table(*device));
    before = support::fingerprint(image);
  }
  [[nodiscard]] support::Ran rewrite(const std::string& disk) const {
    return support::tool(fmt::format("rewrite --timezone UTC --confirm {} --case {} {} table=gpt",
                                     tag, (folder / "case").string(), disk));
  }
  void must_refuse(const std::string& disk, const std::string& word) const {
    CAPTURE(disk);
    const auto ran = rewrite(disk);
    CHECK(ran.status == 3);
    CHECK_MESSAGE(ran.errors.find(word) != std::string::npos, ran.errors);
    CHECK(support::fingerprint(image) == before);
  }
  support::Folder folder;
  fs::path image = folder / "disk.img";
  std::string tag, before;
};

// The place of a file's first byte on the disk.
std::uint64_t first_byte(const fs::path& image) {
  const auto device = open_device(image);
  const Partition p = read_table(*device).layout.data_partitions().at(0);
  const Window window(*device, p.range());
  const auto reader = open_volume(window, support::utc());
  const FileTree& tree = reader->tree();
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (!tree.is_directory(id) && !tree.extents(id).empty())
      return (p.start + tree.extents(id).front().first) * device->sector_size();
  }
  FAIL("no file there");
  return 0;
}

}  // namespace

TEST_CASE("loop: what the kernel remembers of one node is not what lies on the disk") {
  if (!loops_are_there()) return;
  const Disk disk;
  const std::uint64_t at = first_byte(disk.image);
  const Loop one(disk.image), other(disk.image);
  const std::string manifest = (disk.folder / "m").string();
  REQUIRE(support::tool("manifest --timezone UTC -o " + manifest + " " + one.name()).status == 0);
  const std::string verify = "verify --against " + manifest + " " + one.name();
  CHECK(support::tool(verify).status == 0);
  // All of it is in the first node's memory now; the other node changes a byte of a file.
  const int held = ::open(one.name().c_str(), O_RDONLY);
  std::vector<char> whole(64 << 20);
  while (::read(held, whole.data(), whole.size()) > 0) continue;
  const int file = ::open(other.name().c_str(), O_RDWR | O_SYNC);
  char byte = 0;
  REQUIRE(::pread(file, &byte, 1, static_cast<off_t>(at)) == 1);
  byte = static_cast<char>(byte ^ 1);
  REQUIRE(::pwrite(file, &byte, 1, static_cast<off_t>(at)) == 1);
  REQUIRE(::fsync(file) == 0);
  ::close(file);
  char stale = 0;
  REQUIRE(::pread(held, &stale, 1, static_cast<off_t>(at)) == 1);
  if (stale == byte) MESSAGE("this kernel's nodes share what they remember");
  const auto ran = support::tool(verify);
  CHECK(ran.status == 1);
  CHECK(ran.out.find("all as recorded") == std::string::npos);
  ::close(held);
}

TEST_CASE(
    "loop: a write by somebody else is in the kernel's count, and one of our own is not held") {
  if (!loops_are_there()) return;
  const Disk disk;
  const Loop loop(disk.image);
  const auto device = open_device(loop.name(), {true, 0});
  CHECK(device->disturbance() == "");
  (void)device->read(0, 4096);
  CHECK(device->disturbance() == "");
  const int other = ::open(loop.name().c_str(), O_RDWR | O_SYNC);
  char byte = 0;
  REQUIRE(::pread(other, &byte, 1, 700) == 1);
  REQUIRE(::pwrite(other, &byte, 1, 700) == 1);
  ::close(other);
  CHECK(device->disturbance().find("wrote to it since it was opened") != std::string::npos);
  device->write(1, device->read(1));
  device->flush();
  CHECK(device->disturbance() == "");
}

TEST_CASE("loop: a device that may not be written is refused at once, and said to be such") {
  if (!loops_are_there()) return;
  const Disk disk;
  const Loop loop(disk.image, "-r");
  disk.must_refuse(loop.name(), "read-only");
  CHECK(support::tool("survey " + loop.name()).out.find("read-only") != std::string::npos);
  CHECK(support::tool("assess " + loop.name() + " table=gpt").out.find("read-only") !=
        std::string::npos);
}

TEST_CASE("loop: one disk under another name is the same disk in use") {
  if (!loops_are_there()) return;
  const Disk disk;
  const fs::path link = disk.folder / "link.img", soft = disk.folder / "soft.img";
  fs::create_hard_link(disk.image, link);
  fs::create_symlink(disk.image, soft);
  {
    const Loop loop(disk.image);
    for (const fs::path& name : {disk.image, link, soft})
      disk.must_refuse(name.string(), loop.name());
    const fs::path there = disk.folder / "there";
    fs::create_directory(there);
    if (support::run(fmt::format("mount --bind {} {}", disk.folder.path().string(), there.string()))
            .status == 0) {
      disk.must_refuse((there / "disk.img").string(), loop.name());
      // Nor does an output go over it by that name.
      CHECK(support::tool(fmt::format("manifest --overwrite -o {} {}",
                                      (there / "link.img").string(), disk.image.string()))
                .status == 3);
      support::run("umount " + there.string());
    } else {
      MESSAGE("SKIPPED: nothing can be bound here");
    }
    // A node made by hand has the same numbers.
    const fs::path node = disk.folder / "node";
    if (support::run(
            fmt::format("mknod {} b $(stat -c '0x%t 0x%T' {})", node.string(), loop.name()))
            .status == 0) {
      const int held = ::open(loop.name().c_str(), O_RDWR | O_EXCL);
      disk.must_refuse(node.string(), "nuvrat_tests");
      ::close(held);
    }
  }
  {
    const std::ofstream writer(link, std::ios::binary | std::ios::in | std::ios::out);
    disk.must_refuse(disk.image.string(), "nuvrat_tests");
  }
  const auto free = disk.rewrite(soft.string());
  CHECK_MESSAGE(free.status == 0, free.errors);
}

TEST_CASE("loop: sectors of 4096 bytes, said by the device itself") {
  if (!loops_are_there()) return;
  const support::Folder folder;
  const auto image = folder / "disk.img";
  const auto scenario = std::find_if(scenarios::all().begin(), scenarios::all().end(),
                                     [](const auto& s) { return s.sector_size == 4096; });
  scenarios::make_image(image, *scenario);
  const std::string before = support::fingerprint(image);
  const Loop loop(image, "--sector-size 4096");
  const auto survey = support::tool("survey " + loop.name());
  if (survey.out.find("4096 bytes") == std::string::npos) {
    MESSAGE("SKIPPED: this kernel's loop devices have sectors of 512 bytes only");
    return;
  }
  std::string tag;
  {
    const auto device = open_device(loop.name());
    CHECK(device->sector_size() == 4096);
    CHECK(device->physical_sector_size() == 4096);
    tag = disk_tag(*device, read_table(*device));
  }
  std::string goals;
  for (const std::string& goal : scenario->goals) goals += " " + goal;
  const std::string job = (folder / "case").string();
  const auto done = support::tool(fmt::format("rewrite --timezone UTC --confirm {} --case {} {}{}",
                                              tag, job, loop.name(), goals));
  CHECK_MESSAGE(done.status == 0, done.errors);
  {
    const auto device = open_device(loop.name());
    tag = disk_tag(*device, read_table(*device));
  }
  CHECK(support::tool(fmt::format("revert --confirm {} {}", tag, job)).status == 0);
  support::run("sync");
  CHECK(support::fingerprint(image) == before);
}

#include "device/in_use.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <map>
#include <sstream>

#include <fcntl.h>
#include <fmt/core.h>
#include <linux/loop.h>
#include <sys/ioctl.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/descriptor.h"

namespace nuvrat {
using namespace device;
namespace {

namespace fs = std::filesystem;

// The kernel's name of a device number: "sda1".
std::string kernel_name(dev_t number) {
  std::error_code error;
  const fs::path link =
      fs::canonical(fmt::format("/sys/dev/block/{}:{}", major(number), minor(number)), error);
  return error ? "" : link.filename().string();
}

// The device itself and its partitions, as "8:1" → "sda1".
std::map<std::string, std::string> family(const std::string& name) {
  std::map<std::string, std::string> out;
  const fs::path system = fs::path("/sys/class/block") / name;
  out[first_line(system / "dev")] = name;
  for (const fs::path& child : base::entries_of(system)) {
    if (fs::exists(child / "partition")) out[first_line(child / "dev")] = child.filename();
  }
  return out;
}

void add_mounts(const std::map<std::string, std::string>& devices, std::vector<std::string>& out) {
  std::ifstream in("/proc/self/mountinfo");
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    std::string id, parent, number, root, point;
    fields >> id >> parent >> number >> root >> point;
    if (const auto it = devices.find(number); it != devices.end()) {
      out.push_back(fmt::format("{} is mounted at {}", it->second, point));
    }
  }
}

void add_swap(const std::map<std::string, std::string>& devices, std::vector<std::string>& out) {
  std::ifstream in("/proc/swaps");
  for (std::string line; std::getline(in, line);) {
    const std::string path = line.substr(0, line.find_first_of(" \t"));
    for (const auto& [number, name] : devices) {
      if (path == "/dev/" + name) out.push_back(fmt::format("{} is in use as swap", name));
    }
  }
}

void add_layers(const std::map<std::string, std::string>& devices, std::vector<std::string>& out) {
  for (const auto& [number, name] : devices) {
    for (const fs::path& holder :
         base::entries_of(fs::path("/sys/class/block") / name / "holders")) {
      const std::string layer = first_line(holder / "dm/name");
      out.push_back(fmt::format("{} is part of {}", name,
                                layer.empty() ? holder.filename().string() : layer));
    }
  }
}

void add_block_uses(const std::string& name, std::vector<std::string>& out) {
  const auto devices = family(name);
  add_mounts(devices, out);
  add_swap(devices, out);
  add_layers(devices, out);
}

}  // namespace

std::string device::first_line(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  const auto from = line.find_first_not_of(' ');
  if (from == std::string::npos) return "";
  return line.substr(from, line.find_last_not_of(' ') - from + 1);
}

namespace {

// Whether a loop device lies over this very file, under whatever name it was attached.
bool lies_over(const fs::path& block, const struct stat& file) {
  const base::Descriptor device = base::open_file("/dev" / block.filename(), O_RDONLY | O_NONBLOCK);
  loop_info64 status{};
  if (device.valid() && ::ioctl(device.get(), LOOP_GET_STATUS64, &status) == 0)
    return status.lo_inode == file.st_ino && status.lo_device == file.st_dev;
  struct stat backing {};  // without the rights to ask: the name that it was attached by
  const std::string name = first_line(block / "loop/backing_file");
  return !name.empty() && ::stat(name.c_str(), &backing) == 0 && backing.st_ino == file.st_ino &&
         backing.st_dev == file.st_dev;
}

// Open for writing, by the flags that the system shows of it.
bool is_for_writing(const fs::path& process, const fs::path& fd) {
  std::ifstream in(process / "fdinfo" / fd.filename());
  for (std::string line; std::getline(in, line);) {
    if (line.rfind("flags:", 0) != 0) continue;
    const unsigned long flags = std::strtoul(line.c_str() + 6, nullptr, 8);
    return (flags & O_ACCMODE) != O_RDONLY;
  }
  return false;
}

}  // namespace

std::vector<std::string> device::uses_of(const struct stat& info) {
  std::vector<std::string> out;
  if (S_ISBLK(info.st_mode)) {
    add_block_uses(kernel_name(info.st_rdev), out);
    return out;
  }
  for (const fs::path& block : base::entries_of("/sys/block")) {
    if (!fs::exists(block / "loop/backing_file") || !lies_over(block, info)) continue;
    out.push_back(fmt::format("the image is attached to /dev/{}", block.filename().string()));
    add_block_uses(block.filename(), out);
  }
  return out;
}

std::string device::all_uses_of(const struct stat& info) {
  std::string all;
  for (const std::string& use : uses_of(info)) all += (all.empty() ? "" : "; ") + use;
  return all;
}

std::string device::write_mark(const struct stat& info) {
  if (!S_ISBLK(info.st_mode))
    return fmt::format("{} {}.{}", info.st_size, info.st_mtim.tv_sec, info.st_mtim.tv_nsec);
  // Of the device, whatever partition of it was written to. (Linux, Documentation/block/stat.)
  std::ifstream in(
      fmt::format("/sys/dev/block/{}:{}/stat", major(info.st_rdev), minor(info.st_rdev)));
  std::uint64_t reads = 0, merged_reads = 0, sectors_read = 0, ms = 0, writes = 0, merged = 0,
                written = 0;
  if (!(in >> reads >> merged_reads >> sectors_read >> ms >> writes >> merged >> written))
    return "";
  return fmt::format("{} {}", writes, written);
}

std::string device::holders_of(const struct stat& info, bool only_writers) {
  std::string out;
  for (const fs::path& process : base::entries_of("/proc")) {
    const std::string number = process.filename();
    if (number.find_first_not_of("0123456789") != number.npos ||
        number == std::to_string(::getpid()))
      continue;
    const auto open = base::entries_of(process / "fd");
    const bool holds = std::any_of(open.begin(), open.end(), [&](const fs::path& fd) {
      struct stat other {};
      if (::stat(fd.c_str(), &other) != 0) return false;
      const bool same = S_ISBLK(info.st_mode)
                            ? S_ISBLK(other.st_mode) && other.st_rdev == info.st_rdev
                            : other.st_dev == info.st_dev && other.st_ino == info.st_ino;
      return same && (!only_writers || is_for_writing(process, fd));
    });
    if (!holds) continue;
    out += fmt::format("{}{} (process {})", out.empty() ? "" : ", ", first_line(process / "comm"),
                       number);
  }
  return out;
}

}  // namespace nuvrat

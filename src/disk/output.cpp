#include <cerrno>
#include <cstring>
#include <filesystem>

#include <fcntl.h>
#include <fmt/core.h>
#include <linux/loop.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/open.h>
#include <nuvrat/output.h>
#include <nuvrat/table.h>
#include <nuvrat/volume.h>

#include "base/descriptor.h"

namespace nuvrat {
namespace {

Error no(const std::string& text, const std::filesystem::path& path) {
  return {
      ErrorCode::refused, text, {.path = path.string()}, "Nothing was written. Name another file"};
}

bool is_same(const struct stat& a, const struct stat& b) {
  if (S_ISBLK(a.st_mode) && S_ISBLK(b.st_mode)) return a.st_rdev == b.st_rdev;
  return a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

// The file behind a loop device.
bool is_behind(const std::filesystem::path& loop, const struct stat& file) {
  const base::Descriptor device = base::open_file(loop, O_RDONLY | O_NONBLOCK);
  loop_info64 info{};
  if (!device.valid() || ::ioctl(device.get(), LOOP_GET_STATUS64, &info) != 0) return false;
  return info.lo_inode == file.st_ino && info.lo_device == file.st_dev;
}

bool holds_disk(const std::filesystem::path& path) {
  for (const std::uint32_t size : {512u, 4096u}) {
    try {
      const auto device = open_device(path, {false, size});
      const TableReading table = read_table(*device);
      if (table.layout.kind != TableKind::none ||
          recognise_volume(*device).kind != VolumeKind::unknown)
        return true;
    } catch (const Error& e) {
      if (e.code() == ErrorCode::busy) return true;  // it is in use as a disk
    }
  }
  return false;
}

}  // namespace

void check_output(const std::string& named, const OutputRules& rules) {
  const std::filesystem::path path(named);
  if (path == "-") return;
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) {
    const auto above = path.parent_path().empty() ? std::filesystem::path(".") : path.parent_path();
    if (errno == ENOENT && ::access(above.c_str(), W_OK | X_OK) == 0 &&
        std::filesystem::is_directory(above) && ::lstat(path.c_str(), &info) != 0)
      return;
    throw Error(ErrorCode::words,
                fmt::format("the file can't be written: {}", std::strerror(errno)),
                {.path = path.string()}, "Name a file in a folder that exists and may be written");
  }
  for (const std::string& disk : rules.disks) {
    struct stat other {};
    if (::stat(disk.c_str(), &other) != 0) continue;
    if (is_same(info, other) || (S_ISBLK(other.st_mode) && is_behind(disk, info)))
      throw no("that is the disk itself", path);
  }
  if (S_ISBLK(info.st_mode)) throw no("that is a block device", path);
  if (S_ISDIR(info.st_mode)) throw no("that is a folder", path);
  if (!S_ISREG(info.st_mode)) return;
  if (info.st_size >= 512 && holds_disk(path)) throw no("that file holds a disk image", path);
  if (!rules.overwrite) {
    throw Error(ErrorCode::refused, "there is a file of that name already", {.path = path.string()},
                "Nothing was written. Name another file, or say --overwrite");
  }
}

}  // namespace nuvrat

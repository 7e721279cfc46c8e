#include <cerrno>
#include <cstring>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

#include "device/file_device.h"
#include "device/in_use.h"

namespace nuvrat {
namespace {

// A file descriptor on its way to an owner.
class Descriptor {
 public:
  explicit Descriptor(int file) : file_(file) {}
  Descriptor(Descriptor&& other) noexcept : file_(other.release()) {}
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  ~Descriptor() {
    if (file_ >= 0) ::close(file_);
  }
  [[nodiscard]] int get() const { return file_; }
  int release() { return std::exchange(file_, -1); }

 private:
  int file_;
};

Error open_error(const std::string& path, int error) {
  const Place place{{}, {}, {}, path};
  if (error == EACCES || error == EPERM) {
    return {ErrorCode::words, "no permission to open the disk", place,
            "Run as a user who may, or give that user rights on the device"};
  }
  return {ErrorCode::words, fmt::format("the disk can't be opened: {}", std::strerror(error)),
          place, "Name an image file or a block device"};
}

Error busy_error(const std::string& what, const std::string& path, const struct stat& info) {
  const std::string holders = holders_of(info);
  return {ErrorCode::busy,
          holders.empty() ? what : what + ": " + holders,
          {{}, {}, {}, path},
          "Wait for it to end, or close it"};
}

// Refuses a disk that anybody uses, naming every use.
void require_unused(const std::string& path, const struct stat& info) {
  std::string all;
  for (const std::string& use : uses_of(path, info)) all += (all.empty() ? "" : "; ") + use;
  if (all.empty()) return;
  const std::string holders = holders_of(info);
  if (!holders.empty()) all += "; open in " + holders;
  throw Error(ErrorCode::busy, "the disk is in use: " + all, {{}, {}, {}, path},
              "Unmount its volumes, turn off its swap and detach what uses it");
}

std::unique_ptr<Device> open_block(Descriptor file, const std::string& path, dev_t number,
                                   const OpenOptions& options) {
  int sector_size = 0;
  std::uint64_t bytes = 0;
  if (::ioctl(file.get(), BLKSSZGET, &sector_size) != 0 ||
      ::ioctl(file.get(), BLKGETSIZE64, &bytes) != 0) {
    throw open_error(path, errno);
  }
  const auto size = static_cast<std::uint32_t>(sector_size);
  if (options.sector_size != 0 && options.sector_size != size) {
    throw Error(
        ErrorCode::words,
        fmt::format("the device has sectors of {} bytes, not {}", size, options.sector_size),
        {{}, {}, {}, path}, "Leave out --sector-size for block devices");
  }
  const std::filesystem::path system =
      fmt::format("/sys/dev/block/{}:{}/device", major(number), minor(number));
  DeviceIdentity identity{path, "block device", first_line(system / "model"),
                          first_line(system / "serial")};
  return std::make_unique<FileDevice>(file.release(), size, bytes / size, std::move(identity));
}

std::unique_ptr<Device> open_image(Descriptor file, const std::string& path,
                                   const struct stat& info, const OpenOptions& options) {
  const auto bytes = static_cast<std::uint64_t>(info.st_size);
  const std::uint32_t size = options.sector_size == 0 ? 512 : options.sector_size;
  if (size != 512 && size != 4096) {
    throw Error(ErrorCode::words, fmt::format("a sector size of {} is not possible", size),
                {{}, {}, {}, path}, "Give --sector-size 512 or 4096");
  }
  if (bytes == 0 || bytes % size != 0) {
    throw Error(
        ErrorCode::words,
        fmt::format("the image has {} bytes, which is not a whole number of {}-byte sectors", bytes,
                    size),
        {{}, {}, {}, path},
        bytes == 0 ? "It is empty: name an image of a disk"
                   : fmt::format("It is {} bytes short of a whole sector: make the image again",
                                 size - bytes % size));
  }
  if (::flock(file.get(), (options.writable ? LOCK_EX : LOCK_SH) | LOCK_NB) != 0) {
    throw busy_error("another process has locked the image", path, info);
  }
  struct flock record {};
  record.l_type = options.writable ? F_WRLCK : F_RDLCK;
  record.l_whence = SEEK_SET;
  if (::fcntl(file.get(), F_OFD_GETLK, &record) == 0 && record.l_type != F_UNLCK) {
    throw busy_error("another process has locked a part of the image", path, info);
  }
  return std::make_unique<FileDevice>(file.release(), size, bytes / size,
                                      DeviceIdentity{path, "image", {}, {}});
}

}  // namespace

std::unique_ptr<Device> open_device(const std::filesystem::path& path, const OpenOptions& options) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) throw open_error(path, errno);
  const bool block = S_ISBLK(info.st_mode);
  if (!block && !S_ISREG(info.st_mode)) {
    throw Error(ErrorCode::words, "this is neither an image file nor a block device",
                {{}, {}, {}, path});
  }
  if (options.writable) require_unused(path, info);
  int flags = (options.writable ? O_RDWR : O_RDONLY) | O_CLOEXEC;
  if (block && options.writable) flags |= O_EXCL;
  Descriptor file(::open(path.c_str(), flags));
  if (file.get() < 0 && errno == EBUSY) throw busy_error("the device is in use", path, info);
  if (file.get() < 0) throw open_error(path, errno);
  if (block) return open_block(std::move(file), path, info.st_rdev, options);
  return open_image(std::move(file), path, info, options);
}

void create_image(const std::filesystem::path& path, std::uint64_t sectors,
                  std::uint32_t sector_size, bool replace) {
  const int flags = O_RDWR | O_CREAT | O_CLOEXEC | (replace ? O_TRUNC : O_EXCL);
  Descriptor file(::open(path.c_str(), flags, 0644));
  const std::uint64_t bytes = checked_mul(sectors, sector_size, "the size of the image");
  if (file.get() < 0 || ::ftruncate(file.get(), static_cast<off_t>(bytes)) != 0) {
    throw Error(ErrorCode::file, fmt::format("the image can't be made: {}", std::strerror(errno)),
                {{}, {}, {}, path});
  }
}

}  // namespace nuvrat

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <utility>

#include <fcntl.h>
#include <fmt/core.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/open.h>

#include "base/descriptor.h"
#include "device/file_device.h"
#include "device/in_use.h"
#include "device/io.h"
#include "device/nbd_device.h"
#include "device/physical.h"
#include "device/system_disks.h"

namespace nuvrat {
using namespace device;
namespace {

Error open_error(const std::string& path, int error) {
  const Place place{.path = path};
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
          {.path = path},
          "Wait for it to end, or close it"};
}

// Refuses a disk that anybody uses, naming every use.
void require_unused(const std::string& path, const struct stat& info) {
  std::string all = all_uses_of(info);
  if (all.empty()) return;
  const std::string holders = holders_of(info);
  if (!holders.empty()) all += "; open in " + holders;
  throw Error(ErrorCode::busy, "the disk is in use: " + all, {.path = path},
              "Unmount its volumes, turn off its swap and detach what uses it");
}

bool is_read_only(const base::Descriptor& file) {
  int yes = 0;
  return file.valid() && ::ioctl(file.get(), BLKROGET, &yes) == 0 && yes != 0;
}

Error read_only_error(const std::string& path) {
  return {ErrorCode::refused,
          "the device is read-only: a write blocker, or a switch on the card",
          {.path = path},
          "Nothing was written. Connect it so that it may be written"};
}

std::unique_ptr<Device> open_block(base::Descriptor file, const std::string& path,
                                   const struct stat& info, const OpenOptions& options) {
  const dev_t number = info.st_rdev;
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
        {.path = path}, "Leave out --sector-size for block devices");
  }
  const std::filesystem::path system =
      fmt::format("/sys/dev/block/{}:{}", major(number), minor(number));
  DeviceIdentity identity{
      path, DeviceKind::block_device, model_in(system), serial_in(system), false, {}};
  identity.read_only = is_read_only(file);
  if (identity.read_only && options.writable) throw read_only_error(path);
  if (!options.writable) identity.in_use = all_uses_of(info);
  unsigned physical = 0;
  int offset = 0;
  if (::ioctl(file.get(), BLKPBSZGET, &physical) != 0) physical = 4096;
  if (::ioctl(file.get(), BLKALIGNOFF, &offset) != 0 || offset < 0) offset = 0;
  return std::make_unique<FileDevice>(
      std::move(file), size, bytes / size, std::move(identity),
      physical_of(options, size, physical, static_cast<std::uint32_t>(offset)));
}

bool is(const Bytes& in, std::size_t at, std::string_view mark) {
  return in.size() >= at + mark.size() &&
         std::equal(mark.begin(), mark.end(), in.begin() + static_cast<std::ptrdiff_t>(at),
                    [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

void refuse_packed(const base::Descriptor& file, const std::string& path, std::uint64_t bytes) {
  Bytes head(std::min<std::uint64_t>(bytes, 512));
  (void)try_read_at(file.get(), 0, head);
  // A sector that ends like a boot sector is one, whatever it begins with.
  const char* archive = is(head, 510, "\x55\xAA")     ? nullptr
                        : is(head, 0, "\x1F\x8B\x08") ? "gzip"
                        : is(head, 0,
                             "\xFD"
                             "7zXZ")
                            ? "xz"
                        : is(head, 0, "\x28\xB5\x2F\xFD")   ? "zstd"
                        : is(head, 0, "BZh")                ? "bzip2"
                        : is(head, 0, "PK\x03\x04")         ? "ZIP"
                        : is(head, 0, "7z\xBC\xAF\x27\x1C") ? "7z"
                                                            : nullptr;
  if (archive != nullptr)
    throw Error(ErrorCode::words,
                fmt::format("the file is packed ({}): the disk is inside it", archive),
                {.path = path}, "Unpack it first, where there is room for the whole disk");
}

// A fixed VHD is the disk and a footer after it, which is not part of the disk. Other containers
// hold a disk in an order of their own. (Virtual Hard Disk Image Format Specification, 2006.)
std::uint64_t raw_bytes(const base::Descriptor& file, const std::string& path,
                        std::uint64_t bytes) {
  constexpr std::uint64_t footer_bytes = 512;
  Bytes head(std::min<std::uint64_t>(bytes, 512));
  (void)try_read_at(file.get(), 0, head);
  const char* container = is(head, 0, "conectix")            ? "a VHD that grows"
                          : is(head, 0, "vhdxfile")          ? "a VHDX"
                          : is(head, 0, "QFI\xFB")           ? "a QCOW"
                          : is(head, 0, "KDMV")              ? "a VMDK"
                          : is(head, 64, "\x7F\x10\xDA\xBE") ? "a VDI"
                                                             : nullptr;
  Bytes foot(footer_bytes);
  const bool footer = bytes >= 2 * footer_bytes &&
                      try_read_at(file.get(), bytes - footer_bytes, foot).bytes == foot.size() &&
                      is(foot, 0, "conectix");
  if (container == nullptr && !footer) return bytes;
  const auto field = [&foot](std::size_t at, std::size_t width) {
    std::uint64_t out = 0;
    for (std::size_t i = 0; i < width; ++i) out = out << 8 | foot[at + i];
    return out;
  };
  if (container == nullptr) {
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < foot.size(); ++i) sum += i >= 64 && i < 68 ? 0u : foot[i];
    if (field(60, 4) == 2 && field(64, 4) == static_cast<std::uint32_t>(~sum) &&
        field(48, 8) == bytes - footer_bytes)
      return bytes - footer_bytes;
    container = "a VHD whose footer makes no sense, or that is not of a fixed size";
  }
  throw Error(
      ErrorCode::words,
      fmt::format("the file is {}: a container, which holds the disk in an order of its own",
                  container),
      {.path = path},
      "Make a raw image or a VHD of fixed size of it; an NBD server can offer it raw");
}

std::unique_ptr<Device> open_image(base::Descriptor file, const std::string& path,
                                   const struct stat& info, const OpenOptions& options) {
  auto bytes = static_cast<std::uint64_t>(info.st_size);
  const std::uint32_t size = options.sector_size == 0 ? 512 : options.sector_size;
  if (size != 512 && size != 4096) {
    throw Error(ErrorCode::words, fmt::format("a sector size of {} is not possible", size),
                {.path = path}, "Give --sector-size 512 or 4096");
  }
  refuse_packed(file, path, bytes);
  if (bytes == 0 || bytes % size != 0) {
    throw Error(
        ErrorCode::words,
        fmt::format("the image has {} bytes, which is not a whole number of {}-byte sectors", bytes,
                    size),
        {.path = path},
        bytes == 0 ? "It is empty: name an image of a disk"
                   : fmt::format("It is {} bytes short of a whole sector: make the image again",
                                 size - bytes % size));
  }
  bytes = raw_bytes(file, path, bytes);
  if (::flock(file.get(), (options.writable ? LOCK_EX : LOCK_SH) | LOCK_NB) != 0) {
    throw busy_error("another process has locked the image", path, info);
  }
  struct flock record {};
  record.l_type = options.writable ? F_WRLCK : F_RDLCK;
  record.l_whence = SEEK_SET;
  if (::fcntl(file.get(), F_OFD_GETLK, &record) == 0 && record.l_type != F_UNLCK) {
    throw busy_error("another process has locked a part of the image", path, info);
  }
  if (options.writable) {
    if (const std::string writers = holders_of(info, true); !writers.empty())
      throw Error(ErrorCode::busy, "another process has the image open for writing: " + writers,
                  {.path = path}, "Wait for it to end, or close it");
  }
  DeviceIdentity identity{path, DeviceKind::image, {}, {}, false, {}};
  if (!options.writable) identity.in_use = all_uses_of(info);
  return std::make_unique<FileDevice>(std::move(file), size, bytes / size, std::move(identity),
                                      physical_of(options, size, 4096, 0));
}

}  // namespace

PhysicalSector device::physical_of(const OpenOptions& options, std::uint32_t sector_size,
                                   std::uint32_t said, std::uint32_t offset) {
  const std::uint32_t told = options.physical_sector_size;
  if (told != 0 && (told < sector_size || told > 1u << 20 || (told & (told - 1)) != 0)) {
    throw Error(ErrorCode::words,
                fmt::format("a physical sector size of {} is not possible with sectors of {} bytes",
                            told, sector_size),
                {}, "It is a power of two, for instance 4096");
  }
  const std::uint32_t sectors = std::max(told == 0 ? said : told, sector_size) / sector_size;
  return {sectors, offset / sector_size % sectors};
}

bool is_address(std::string_view path) {
  const std::size_t end = path.find("://");
  return end != path.npos && path.starts_with("nbd");
}

// Opened first, then asked: a name may lead elsewhere a moment later.
std::unique_ptr<Device> open_device(const std::string& path, const OpenOptions& options) {
  if (is_address(path)) return open_nbd(path, options);
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) throw open_error(path, errno);
  if (!S_ISBLK(info.st_mode) && !S_ISREG(info.st_mode)) {  // a pipe would wait for its other end
    throw Error(ErrorCode::words, "this is neither an image file nor a block device",
                {.path = path});
  }
  int flags = options.writable ? O_RDWR : O_RDONLY;
  if (S_ISBLK(info.st_mode) && options.writable) flags |= O_EXCL;
  base::Descriptor file = base::open_file(path, flags);
  const int error = errno;
  if (!file.valid()) {
    if (options.writable) require_unused(path, info);
    if (options.writable && S_ISBLK(info.st_mode) && is_read_only(base::open_file(path, O_RDONLY)))
      throw read_only_error(path);
    if (error == EBUSY) throw busy_error("the device is in use", path, info);
    throw open_error(path, error);
  }
  if (::fstat(file.get(), &info) != 0) throw open_error(path, errno);
  if (options.writable) require_unused(path, info);
  if (S_ISBLK(info.st_mode)) return open_block(std::move(file), path, info, options);
  if (S_ISREG(info.st_mode)) return open_image(std::move(file), path, info, options);
  throw open_error(path, ENODEV);
}

void create_image(const std::string& path, std::uint64_t sectors, std::uint32_t sector_size,
                  bool replace) {
  const int flags = O_RDWR | O_CREAT | (replace ? O_TRUNC : O_EXCL);
  const base::Descriptor file = base::open_file(path, flags, 0644);
  const std::uint64_t bytes = checked_mul(sectors, sector_size, "the size of the image");
  if (!file.valid() || ::ftruncate(file.get(), static_cast<off_t>(bytes)) != 0) {
    throw Error(ErrorCode::file, fmt::format("the image can't be made: {}", std::strerror(errno)),
                {.path = path});
  }
}

}  // namespace nuvrat

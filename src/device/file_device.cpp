#include "device/file_device.h"

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <memory>

#include <fcntl.h>
#include <fmt/core.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nuvrat/error.h>

#include "device/in_use.h"
#include "device/io.h"

namespace nuvrat {
using namespace device;

Transfer device::try_read_at(int file, std::uint64_t offset, ByteSpan out) {
  Transfer done;
  while (done.bytes < out.size()) {
    const ssize_t n = ::pread(file, out.data() + done.bytes, out.size() - done.bytes,
                              static_cast<off_t>(offset + done.bytes));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) done.error = errno;
    if (n <= 0) break;
    done.bytes += static_cast<std::size_t>(n);
  }
  return done;
}

Transfer device::try_write_at(int file, std::uint64_t offset, ByteView data) {
  Transfer done;
  while (done.bytes < data.size()) {
    const ssize_t n = ::pwrite(file, data.data() + done.bytes, data.size() - done.bytes,
                               static_cast<off_t>(offset + done.bytes));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) done.error = errno;
    if (n <= 0) break;
    done.bytes += static_cast<std::size_t>(n);
  }
  return done;
}

void device::read_at(int file, std::uint64_t offset, ByteSpan out) {
  const Transfer done = try_read_at(file, offset, out);
  if (done.bytes != out.size()) {
    throw Error(ErrorCode::file, fmt::format("a temporary file could not be read back: {}",
                                             std::strerror(done.error)));
  }
}

void device::write_at(int file, std::uint64_t offset, ByteView data) {
  const Transfer done = try_write_at(file, offset, data);
  if (done.bytes != data.size()) {
    throw Error(ErrorCode::file,
                fmt::format("a temporary file could not be written: {}", std::strerror(done.error)),
                {}, "Set TMPDIR to a folder with more room");
  }
}

namespace {

// The open file once more, as a description of its own.
base::Descriptor again(int file, int flags) {
  return base::open_file(fmt::format("/proc/self/fd/{}", file), O_RDONLY | flags);
}

constexpr std::uint64_t page = 4096;  // what past-the-cache reads are aligned to

}  // namespace

FileDevice::FileDevice(base::Descriptor file, std::uint32_t sector_size, std::uint64_t sectors,
                       DeviceIdentity identity, PhysicalSector physical)
    : Device(sector_size, sectors, std::move(identity), physical),
      file_(std::move(file)),
      direct_(again(file_.get(), O_DIRECT)),
      holes_(this->identity().kind == DeviceKind::image ? again(file_.get(), 0)
                                                        : base::Descriptor()) {
  const int flags = ::fcntl(file_.get(), F_GETFL);
  writable_ = flags >= 0 && (flags & O_ACCMODE) != O_RDONLY;
  // What another name of the same disk wrote meanwhile is not in this one's cache.
  if (this->identity().kind == DeviceKind::block_device) ::ioctl(file_.get(), BLKFLSBUF);
  struct stat info {};
  if (::fstat(file_.get(), &info) != 0) return;
  mark_ = write_mark(info);
  length_ = info.st_size;
}

FileDevice::~FileDevice() = default;

void FileDevice::do_read(std::uint64_t lba, ByteSpan out) const {
  if (const auto bad = bad_.first_in({lba, out.size() / sector_size()})) {
    throw Error(ErrorCode::device_read,
                "the device did not give its data when it was asked, and isn't asked again",
                {.subject = identity().path, .sector = *bad});
  }
  const Transfer done = try_read_at(file_.get(), lba * sector_size(), out);
  if (done.bytes == out.size()) return;
  if (done.error == EIO) bad_.add(lba + done.bytes / sector_size());
  throw Error(
      ErrorCode::device_read,
      fmt::format("the device did not give its data: {}",
                  done.error == 0 ? "it is shorter than it said" : std::strerror(done.error)),
      {.subject = identity().path, .sector = lba + done.bytes / sector_size()});
}

bool FileDevice::do_read_medium(std::uint64_t lba, ByteSpan out) const {
  constexpr std::uint64_t piece = 1u << 20;
  std::unique_ptr<std::uint8_t, decltype(&std::free)> buffer(
      static_cast<std::uint8_t*>(std::aligned_alloc(page, piece + 2 * page)), &std::free);
  const std::uint64_t end = bytes() / page * page;  // a last part of a page can't be read so
  for (std::uint64_t done = 0; done < out.size();) {
    const std::uint64_t at = lba * sector_size() + done;
    const std::uint64_t n = std::min<std::uint64_t>(piece, out.size() - done);
    const std::uint64_t first = at / page * page;
    const std::uint64_t last = div_up(at + n, page) * page;
    const ByteSpan whole(buffer.get(), last - first);
    const bool given = buffer != nullptr && direct_.valid() && last <= end &&
                       try_read_at(direct_.get(), first, whole).bytes == whole.size();
    if (!given) {
      forget({lba, out.size() / sector_size()});
      do_read(lba, out);
      return false;
    }
    std::copy_n(whole.begin() + static_cast<std::ptrdiff_t>(at - first), n,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    done += n;
  }
  return true;
}

void FileDevice::do_write(std::uint64_t lba, ByteView data) {
  mark_.clear();
  bad_.forget({lba, data.size() / sector_size()});  // a medium may put another one in its place
  const Transfer done = try_write_at(file_.get(), lba * sector_size(), data);
  if (done.bytes == data.size()) return;
  throw Error(ErrorCode::device_write,
              fmt::format("the device did not take its data: {}", std::strerror(done.error)),
              {.subject = identity().path, .sector = lba + done.bytes / sector_size()});
}

void FileDevice::do_flush() {
  if (::fdatasync(file_.get()) != 0) {
    throw Error(ErrorCode::device_write,
                fmt::format("the device did not confirm its data: {}", std::strerror(errno)),
                {.subject = identity().path});
  }
}

void FileDevice::do_reserve(SectorRange range) {
  if (identity().kind == DeviceKind::block_device) return;
  mark_.clear();
  int status = 0;
  do {
    status = ::fallocate(file_.get(), FALLOC_FL_KEEP_SIZE,
                         static_cast<off_t>(range.first * sector_size()),
                         static_cast<off_t>(range.count * sector_size()));
  } while (status != 0 && errno == EINTR);
  if (status == 0 || (errno != ENOSPC && errno != EDQUOT && errno != EFBIG)) return;
  throw Error(ErrorCode::refused,
              "the image has holes where it would be written, and its file system has no room for "
              "them: " +
                  std::string(std::strerror(errno)),
              {.subject = identity().path, .sector = range.first},
              "Nothing was written. Make room where the image is");
}

std::string FileDevice::replaced() const {
  struct stat info {};
  struct stat named {};
  if (identity().kind != DeviceKind::image || ::fstat(file_.get(), &info) != 0) return "";
  if (info.st_size != length_)
    return fmt::format("the image had {} bytes when it was opened, and has {}", length_,
                       info.st_size);
  if (::stat(identity().path.c_str(), &named) != 0) return "the image is no longer under its name";
  return named.st_dev == info.st_dev && named.st_ino == info.st_ino
             ? ""
             : "another file is under the image's name since it was opened";
}

std::string FileDevice::disturbance() const {
  struct stat info {};
  if (::fstat(file_.get(), &info) != 0) return "";
  if (std::string other = replaced(); !other.empty()) return other;
  if ((::fcntl(file_.get(), F_GETFL) & O_ACCMODE) != O_RDONLY) {
    if (std::string uses = all_uses_of(info); !uses.empty()) return uses;
    const bool image = identity().kind == DeviceKind::image;
    if (std::string writers = image ? holders_of(info, true) : ""; !writers.empty())
      return "another process has the image open for writing: " + writers;
  }
  if (mark_.empty() || write_mark(info) == mark_) return "";
  return identity().kind == DeviceKind::image
             ? "the image was written to, or its time set, since it was opened"
             : "something else wrote to it since it was opened";
}

bool FileDevice::reread_table() {
  return identity().kind != DeviceKind::block_device || ::ioctl(file_.get(), BLKRRPART) == 0;
}

void FileDevice::forget(SectorRange range) const {
  bad_.forget(range);
  const bool whole = range.first == 0 && range.count == sectors();
  if (whole && identity().kind == DeviceKind::block_device && ::ioctl(file_.get(), BLKFLSBUF) == 0)
    return;
  // Whole pages: the system keeps those that are named in part.
  const std::uint64_t first = range.first * sector_size() / page * page;
  const std::uint64_t end = div_up(range.end() * sector_size(), page) * page;
  ::posix_fadvise(file_.get(), static_cast<off_t>(first), static_cast<off_t>(end - first),
                  POSIX_FADV_DONTNEED);
}

std::uint64_t FileDevice::next_data(std::uint64_t lba) const {
  if (!holes_.valid()) return lba;
  const off_t at = ::lseek(holes_.get(), static_cast<off_t>(lba * sector_size()), SEEK_DATA);
  if (at < 0) return errno == ENXIO ? sectors() : lba;
  return static_cast<std::uint64_t>(at) / sector_size();
}

}  // namespace nuvrat

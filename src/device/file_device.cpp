#include "device/file_device.h"

#include <cerrno>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <nuvrat/error.h>

#include "device/io.h"

namespace nuvrat {
namespace io {

Moved try_read_at(int file, std::uint64_t offset, ByteSpan out) {
  Moved moved;
  while (moved.bytes < out.size()) {
    const ssize_t n = ::pread(file, out.data() + moved.bytes, out.size() - moved.bytes,
                              static_cast<off_t>(offset + moved.bytes));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) moved.error = errno;
    if (n <= 0) break;
    moved.bytes += static_cast<std::size_t>(n);
  }
  return moved;
}

Moved try_write_at(int file, std::uint64_t offset, ByteView data) {
  Moved moved;
  while (moved.bytes < data.size()) {
    const ssize_t n = ::pwrite(file, data.data() + moved.bytes, data.size() - moved.bytes,
                               static_cast<off_t>(offset + moved.bytes));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) moved.error = errno;
    if (n <= 0) break;
    moved.bytes += static_cast<std::size_t>(n);
  }
  return moved;
}

void read_at(int file, std::uint64_t offset, ByteSpan out) {
  const Moved moved = try_read_at(file, offset, out);
  if (moved.bytes != out.size()) {
    throw Error(ErrorCode::file, fmt::format("a temporary file could not be read back: {}",
                                             std::strerror(moved.error)));
  }
}

void write_at(int file, std::uint64_t offset, ByteView data) {
  const Moved moved = try_write_at(file, offset, data);
  if (moved.bytes != data.size()) {
    throw Error(
        ErrorCode::file,
        fmt::format("a temporary file could not be written: {}", std::strerror(moved.error)), {},
        "Set TMPDIR to a folder with more room");
  }
}

}  // namespace io

FileDevice::FileDevice(int file, std::uint32_t sector_size, std::uint64_t sectors,
                       DeviceIdentity identity)
    : Device(sector_size, sectors, std::move(identity)), file_(file) {}

FileDevice::~FileDevice() {
  ::close(file_);
}

void FileDevice::do_read(std::uint64_t lba, ByteSpan out) const {
  const io::Moved moved = io::try_read_at(file_, lba * sector_size(), out);
  if (moved.bytes == out.size()) return;
  throw Error(
      ErrorCode::device_read,
      fmt::format("the device did not give its data: {}",
                  moved.error == 0 ? "it is shorter than it said" : std::strerror(moved.error)),
      {identity().path, lba + moved.bytes / sector_size(), {}, {}});
}

void FileDevice::do_write(std::uint64_t lba, ByteView data) {
  const io::Moved moved = io::try_write_at(file_, lba * sector_size(), data);
  if (moved.bytes == data.size()) return;
  throw Error(ErrorCode::device_write,
              fmt::format("the device did not take its data: {}", std::strerror(moved.error)),
              {identity().path, lba + moved.bytes / sector_size(), {}, {}});
}

void FileDevice::do_flush() {
  if (::fdatasync(file_) != 0) {
    throw Error(ErrorCode::device_write,
                fmt::format("the device did not confirm its data: {}", std::strerror(errno)),
                {identity().path, {}, {}, {}});
  }
}

bool FileDevice::reread_table() {
  return identity().kind != "block device" || ::ioctl(file_, BLKRRPART) == 0;
}

void FileDevice::forget(SectorRange range) const {
  ::posix_fadvise(file_, static_cast<off_t>(range.first * sector_size()),
                  static_cast<off_t>(range.count * sector_size()), POSIX_FADV_DONTNEED);
}

std::uint64_t FileDevice::next_data(std::uint64_t lba) const {
  const off_t at = ::lseek(file_, static_cast<off_t>(lba * sector_size()), SEEK_DATA);
  if (at < 0) return errno == ENXIO ? sectors() : lba;
  return static_cast<std::uint64_t>(at) / sector_size();
}

}  // namespace nuvrat

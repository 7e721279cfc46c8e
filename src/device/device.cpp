#include <fmt/format.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

namespace nuvrat {

Device::Device(std::uint32_t sector_size, std::uint64_t sectors, DeviceIdentity identity)
    : sector_size_(sector_size), sectors_(sectors), identity_(std::move(identity)) {
  if (sector_size < 512 || sector_size > 4096 || (sector_size & (sector_size - 1)) != 0) {
    throw Error(ErrorCode::words,
                fmt::format("a sector size of {} bytes is not supported", sector_size),
                {identity_.path, {}, {}, {}}, "Sectors of 512 to 4096 bytes are");
  }
  checked_mul(sectors, sector_size, "the size of the disk");
}

void Device::check_range(std::uint64_t lba, std::size_t size, bool writing) const {
  const std::uint64_t count = size / sector_size_;
  if (size % sector_size_ == 0 && lba <= sectors_ && count <= sectors_ - lba) return;
  throw Error(writing ? ErrorCode::device_write : ErrorCode::device_read,
              fmt::format("{} bytes at sector {} leave the disk, which has {} sectors of {} bytes",
                          size, lba, sectors_, sector_size_),
              {identity_.path, lba, {}, {}});
}

void Device::read(std::uint64_t lba, ByteSpan out) const {
  check_range(lba, out.size(), false);
  if (!out.empty()) do_read(lba, out);
}

bool Device::read_medium(std::uint64_t lba, ByteSpan out) const {
  check_range(lba, out.size(), false);
  return out.empty() || do_read_medium(lba, out);
}

Bytes Device::read(std::uint64_t lba, std::uint64_t count) const {
  if (lba > sectors_ || count > sectors_ - lba) check_range(lba, sector_size_ + 1, false);
  Bytes out(count * sector_size_);
  read(lba, out);
  return out;
}

void Device::write(std::uint64_t lba, ByteView data) {
  check_range(lba, data.size(), true);
  if (!data.empty()) do_write(lba, data);
}

void Device::flush() {
  do_flush();
}
void Device::forget(SectorRange /*range*/) const {}
std::uint64_t Device::next_data(std::uint64_t lba) const {
  return lba;
}

}  // namespace nuvrat

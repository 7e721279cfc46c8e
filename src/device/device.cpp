#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

namespace nuvrat {

const char* name_of(DeviceKind kind) {
  switch (kind) {
    case DeviceKind::image:
      return "image";
    case DeviceKind::block_device:
      return "block device";
    case DeviceKind::network:
      return "network disk";
    case DeviceKind::memory:
      return "memory";
  }
  return "memory";
}

Device::Device(std::uint32_t sector_size, std::uint64_t sectors, DeviceIdentity identity,
               PhysicalSector physical)
    : sector_size_(sector_size),
      sectors_(sectors),
      identity_(std::move(identity)),
      physical_(physical) {
  if (sector_size < 512 || sector_size > 4096 || (sector_size & (sector_size - 1)) != 0) {
    throw Error(ErrorCode::words,
                fmt::format("a sector size of {} bytes is not supported", sector_size),
                {.subject = identity_.path}, "Sectors of 512 to 4096 bytes are");
  }
  constexpr std::uint32_t max_bytes = 1u << 20;
  if (physical.sectors == 0 || (physical.sectors & (physical.sectors - 1)) != 0 ||
      physical.sectors > max_bytes / sector_size || physical.first >= physical.sectors) {
    throw Error(ErrorCode::words,
                fmt::format("a physical sector of {} sectors of {} bytes is not supported",
                            physical.sectors, sector_size),
                {.subject = identity_.path}, "It is a power of two, of a mebibyte at most");
  }
  checked_mul(sectors, sector_size, "the size of the disk");
  identity_.physical_sector_size = sector_size * physical.sectors;
}

SectorRange PhysicalSector::whole_inside(SectorRange range) const {
  const std::uint64_t begin = range.first + (sectors - into(range.first)) % sectors;
  const std::uint64_t end = range.end() - std::min(range.end(), into(range.end()));
  return {begin, begin < end ? end - begin : 0};
}

SectorRange Device::whole_physical(SectorRange range) const {
  if (physical_.sectors == 1 || range.count == 0) return range;
  const std::uint64_t first = range.first - std::min(range.first, physical_.into(range.first));
  const std::uint64_t last = range.last();
  const std::uint64_t more = physical_.sectors - 1 - physical_.into(last);
  return {first, last + std::min(more, sectors_ - 1 - last) + 1 - first};
}

Error Device::beyond_the_end(std::uint64_t lba, std::uint64_t size, bool writing) const {
  return {
      writing ? ErrorCode::device_write : ErrorCode::device_read,
      fmt::format(
          "{} bytes at sector {} go beyond the end of the disk, which has {} sectors of {} bytes",
          size, lba, sectors_, sector_size_),
      {.subject = identity_.path, .sector = lba}};
}

void Device::check_range(std::uint64_t lba, std::size_t size, bool writing) const {
  const std::uint64_t count = size / sector_size_;
  if (size % sector_size_ != 0)
    throw Error(ErrorCode::words,
                fmt::format("{} bytes are not whole sectors of {} bytes", size, sector_size_),
                {.subject = identity_.path, .sector = lba});
  if (lba <= sectors_ && count <= sectors_ - lba) return;
  throw beyond_the_end(lba, size, writing);
}

void Device::read(std::uint64_t lba, ByteSpan out) const {
  check_range(lba, out.size(), false);
  if (!out.empty()) do_read(lba, out);
}

void Device::read_once(std::uint64_t lba, ByteSpan out) const {
  check_range(lba, out.size(), false);
  if (!out.empty()) do_read_once(lba, out);
}

bool Device::read_medium(std::uint64_t lba, ByteSpan out) const {
  check_range(lba, out.size(), false);
  return out.empty() || do_read_medium(lba, out);
}

Bytes Device::read(std::uint64_t lba, std::uint64_t count) const {
  if (lba > sectors_ || count > sectors_ - lba)
    throw beyond_the_end(lba, count * sector_size_, false);
  Bytes out(count * sector_size_);
  read(lba, out);
  return out;
}

void Device::write(std::uint64_t lba, ByteView data) {
  check_range(lba, data.size(), true);
  if (!writable())
    throw Error(ErrorCode::device_write, "the device was opened for reading only",
                {.subject = identity_.path, .sector = lba});
  if (data.empty()) return;
  const SectorRange range{lba, data.size() / sector_size_};
  const SectorRange whole = is_medium() ? whole_physical(range) : range;
  if (whole == range) {
    do_write(lba, data);
    return;
  }
  Bytes all(whole.count * sector_size_);
  const ByteSpan before = ByteSpan(all).first((range.first - whole.first) * sector_size_);
  const ByteSpan behind = ByteSpan(all).last((whole.end() - range.end()) * sector_size_);
  if (!before.empty()) do_read(whole.first, before);
  if (!behind.empty()) do_read(range.end(), behind);
  std::copy(data.begin(), data.end(), all.begin() + static_cast<std::ptrdiff_t>(before.size()));
  do_write(whole.first, all);
}

void copy_device(const Device& from, Device& to) {
  if (from.sector_size() != to.sector_size() || from.sectors() != to.sectors())
    throw Error(ErrorCode::refused, "a device is copied to one of its own size and sector size",
                {.subject = to.identity().path});
  const std::uint64_t most = (1u << 20) / from.sector_size();
  const auto zero_there = [&to](std::uint64_t lba, std::uint64_t count) {
    return to.next_data(lba) >= lba + count;
  };
  for (std::uint64_t lba = 0; lba < from.sectors();) {
    const std::uint64_t data = from.next_data(lba);
    const std::uint64_t end = data > lba ? data : lba + std::min(most, from.sectors() - lba);
    const std::uint64_t count = std::min(most, end - lba);
    if (data == lba) {
      Bytes bytes(count * from.sector_size());
      from.read_once(lba, bytes);
      if (!all_zero(bytes) || !zero_there(lba, count)) to.write(lba, bytes);
    } else if (!zero_there(lba, count)) {
      to.write(lba, Bytes(count * from.sector_size()));
    }
    lba += count;
  }
}

void Device::reserve(const SectorSet& sectors) {
  for (const SectorRange& range : sectors) do_reserve(whole_physical(range));
}

void Device::flush() {
  do_flush();
}
void Device::forget(SectorRange /*range*/) const {}
std::uint64_t Device::next_data(std::uint64_t lba) const {
  return lba;
}

}  // namespace nuvrat

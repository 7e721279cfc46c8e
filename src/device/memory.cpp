#include <algorithm>
#include <cstring>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

namespace nuvrat {
namespace {

constexpr std::uint64_t chunk_bytes = 1u << 16;

// Calls piece(chunk number, offset in chunk, offset in buffer, length) for each chunk touched.
template <typename Piece>
void each_chunk(std::uint64_t offset, std::uint64_t size, Piece piece) {
  for (std::uint64_t done = 0; done < size;) {
    const std::uint64_t at = offset + done;
    const std::uint64_t inside = at % chunk_bytes;
    const std::uint64_t n = std::min(chunk_bytes - inside, size - done);
    piece(at / chunk_bytes, inside, done, n);
    done += n;
  }
}

}  // namespace

MemoryDevice::MemoryDevice(std::uint64_t sectors, std::uint32_t sector_size,
                           PhysicalSector physical)
    : Device(sector_size, sectors, {"memory", DeviceKind::memory, {}, {}}, physical) {}

std::unique_ptr<MemoryDevice> MemoryDevice::clone() const {
  auto copy = std::make_unique<MemoryDevice>(sectors(), sector_size(), physical());
  copy->chunks_ = chunks_;
  return copy;
}

bool MemoryDevice::same_as(const MemoryDevice& other) const {
  if (sectors() != other.sectors() || sector_size() != other.sector_size()) return false;
  const auto covers = [](const MemoryDevice& a, const MemoryDevice& b) {
    return std::all_of(a.chunks_.begin(), a.chunks_.end(), [&b](const auto& entry) {
      const auto it = b.chunks_.find(entry.first);
      return it == b.chunks_.end() ? all_zero(*entry.second)
                                   : it->second == entry.second || *it->second == *entry.second;
    });
  };
  return covers(*this, other) && covers(other, *this);
}

std::uint64_t MemoryDevice::next_data(std::uint64_t lba) const {
  const std::uint64_t per_chunk = chunk_bytes / sector_size();
  const auto it = chunks_.lower_bound(lba / per_chunk);
  return it == chunks_.end() ? sectors() : std::max(lba, it->first * per_chunk);
}

void MemoryDevice::do_read(std::uint64_t lba, ByteSpan out) const {
  each_chunk(lba * sector_size(), out.size(),
             [&](std::uint64_t chunk, std::uint64_t inside, std::uint64_t at, std::uint64_t n) {
               const auto it = chunks_.find(chunk);
               const ByteSpan target = out.subspan(at, n);
               if (it == chunks_.end()) {
                 std::fill(target.begin(), target.end(), std::uint8_t{0});
               } else {
                 std::memcpy(target.data(), it->second->data() + inside, n);
               }
             });
}

void MemoryDevice::do_write(std::uint64_t lba, ByteView data) {
  each_chunk(lba * sector_size(), data.size(),
             [&](std::uint64_t chunk, std::uint64_t inside, std::uint64_t at, std::uint64_t n) {
               auto it = chunks_.find(chunk);
               if (it == chunks_.end()) {
                 if (all_zero(data.subspan(at, n))) return;
                 it = chunks_.emplace(chunk, std::make_shared<Bytes>(chunk_bytes)).first;
               } else if (it->second.use_count() > 1) {
                 it->second = std::make_shared<Bytes>(*it->second);
               }
               std::memcpy(it->second->data() + inside, data.data() + at, n);
             });
}

Window::Window(const Device& parent, SectorRange range)
    : Device(parent.sector_size(), range.count, parent.identity(),
             parent.physical().seen_from(range.first)),
      parent_(parent),
      range_(range) {
  if (range.end() > parent.sectors()) {
    throw Error(ErrorCode::damaged, range.text() + " go beyond the end of the disk",
                {.subject = parent.identity().path, .sector = range.first});
  }
}

void Window::forget(SectorRange range) const {
  parent_.forget({range_.first + range.first, range.count});
}

std::uint64_t Window::next_data(std::uint64_t lba) const {
  return std::min(parent_.next_data(range_.first + lba) - range_.first, range_.count);
}

void Window::do_read(std::uint64_t lba, ByteSpan out) const {
  parent_.read(range_.first + lba, out);
}
void Window::do_read_once(std::uint64_t lba, ByteSpan out) const {
  parent_.read_once(range_.first + lba, out);
}
bool Window::do_read_medium(std::uint64_t lba, ByteSpan out) const {
  return parent_.read_medium(range_.first + lba, out);
}
// write() has refused already: a write that is lost without a word must not be possible at all.
void Window::do_write(std::uint64_t lba, ByteView /*data*/) {
  throw Error(ErrorCode::device_write, "this part of the disk was opened for reading",
              {.subject = identity().path, .sector = range_.first + lba});
}

void WritableWindow::do_write(std::uint64_t lba, ByteView data) {
  parent_.write(range().first + lba, data);
}
void WritableWindow::do_flush() {
  parent_.flush();
}

}  // namespace nuvrat

#pragma once
// A range of a device that ends before the range does: an image that was cut off.

#include <algorithm>
#include <memory>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

namespace nuvrat::disk {

/// Reads as the range; what isn't there can't be read. The parent must outlive it.
class CutWindow final : public Device {
 public:
  CutWindow(const Device& parent, SectorRange range)
      : Device(parent.sector_size(), range.count, parent.identity()),
        parent_(parent),
        first_(range.first) {}

  [[nodiscard]] std::uint64_t there() const override {
    return std::min(sectors(), parent_.sectors() - std::min(first_, parent_.sectors()));
  }
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override {
    return lba < there() ? parent_.next_data(first_ + lba) - first_ : lba;
  }

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override {
    require_there(lba, out);
    parent_.read(first_ + lba, out);
  }
  void do_read_once(std::uint64_t lba, ByteSpan out) const override {
    require_there(lba, out);
    parent_.read_once(first_ + lba, out);
  }
  void require_there(std::uint64_t lba, ByteView out) const {
    if (lba + out.size() / sector_size() > there())
      throw Error(
          ErrorCode::device_read, "the disk ends before this sector",
          {.subject = identity().path, .sector = first_ + std::max(lba, there())},
          "The image was cut off, or what it is attached to shows less of the disk than there is");
  }
  void do_write(std::uint64_t lba, ByteView /*data*/) override {
    throw Error(ErrorCode::device_write, "what is cut off isn't written",
                {.subject = identity().path, .sector = first_ + lba});
  }
  void do_flush() override {}

  const Device& parent_;
  std::uint64_t first_;
};

/// Of a range that may end beyond its disk, the sectors that there are.
inline std::uint64_t there_of(const Device& device, SectorRange range) {
  return std::min(range.count, device.sectors() - std::min(range.first, device.sectors()));
}

/// The range to be read, as far as it is there.
inline std::unique_ptr<Device> window_onto(const Device& device, SectorRange range) {
  if (there_of(device, range) < range.count) return std::make_unique<CutWindow>(device, range);
  return std::make_unique<Window>(device, range);
}

}  // namespace nuvrat::disk

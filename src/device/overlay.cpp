#include <algorithm>
#include <cstdlib>

#include <unistd.h>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

#include "base/temporary_file.h"
#include "device/io.h"

namespace nuvrat {

Overlay::Overlay(const Device& base)
    : Device(base.sector_size(), base.sectors(), base.identity(), base.physical()), base_(base) {
  const char* folder = std::getenv("TMPDIR");
  file_ =
      base::temporary_file(folder == nullptr ? "/tmp" : folder, "Set TMPDIR to a folder with room")
          .release();
}

Overlay::~Overlay() {
  ::close(file_);
}

SectorSet Overlay::written() const {
  SectorSet out;
  for (const auto& [lba, run] : runs_) out.add({lba, run.count});
  return out;
}

std::uint64_t Overlay::next_data(std::uint64_t lba) const {
  std::uint64_t own = sectors();
  auto it = runs_.upper_bound(lba);
  if (it != runs_.begin() && std::prev(it)->first + std::prev(it)->second.count > lba) return lba;
  if (it != runs_.end()) own = it->first;
  return std::min(own, base_.next_data(lba));
}

void Overlay::do_read(std::uint64_t lba, ByteSpan out) const {
  const std::uint64_t end = lba + out.size() / sector_size();
  auto it = runs_.upper_bound(lba);
  if (it != runs_.begin()) --it;
  std::uint64_t at = lba;
  while (at < end) {
    while (it != runs_.end() && it->first + it->second.count <= at) ++it;
    const bool ours = it != runs_.end() && it->first <= at;
    const std::uint64_t stop = ours ? std::min(end, it->first + it->second.count)
                                    : std::min(end, it == runs_.end() ? end : it->first);
    const ByteSpan part = out.subspan((at - lba) * sector_size(), (stop - at) * sector_size());
    if (ours) {
      device::read_at(file_, (it->second.slot + at - it->first) * sector_size(), part);
    } else {
      base_.read(at, part);
    }
    at = stop;
  }
}

void Overlay::do_write(std::uint64_t lba, ByteView data) {
  const std::uint64_t end = lba + data.size() / sector_size();
  auto it = runs_.upper_bound(lba);
  if (it != runs_.begin()) --it;
  std::uint64_t at = lba;
  while (at < end) {
    while (it != runs_.end() && it->first + it->second.count <= at) ++it;
    const bool ours = it != runs_.end() && it->first <= at;
    const std::uint64_t stop = ours ? std::min(end, it->first + it->second.count)
                                    : std::min(end, it == runs_.end() ? end : it->first);
    const ByteView part = data.subspan((at - lba) * sector_size(), (stop - at) * sector_size());
    if (ours) {
      device::write_at(file_, (it->second.slot + at - it->first) * sector_size(), part);
    } else {
      append(at, part);
    }
    at = stop;
  }
}

void Overlay::append(std::uint64_t lba, ByteView data) {
  device::write_at(file_, slots_ * sector_size(), data);
  const std::uint64_t count = data.size() / sector_size();
  auto before = runs_.lower_bound(lba);
  if (before != runs_.begin()) {
    --before;
    const bool follows = before->first + before->second.count == lba &&
                         before->second.slot + before->second.count == slots_;
    if (follows) {
      before->second.count += count;
      slots_ += count;
      return;
    }
  }
  runs_[lba] = {count, slots_};
  slots_ += count;
}

}  // namespace nuvrat

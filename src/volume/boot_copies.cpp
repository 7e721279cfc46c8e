#include "volume/boot_copies.h"

#include <algorithm>

#include <nuvrat/error.h>

#include "device/given.h"
#include "volume/kinds.h"

namespace nuvrat::volume {
namespace {

constexpr std::uint64_t reserved = 256;  // sectors at the front, where FAT32 has its copy
constexpr std::size_t max_opened = 8;    // a disk may be full of what looks like one

// The volume with another first sector.
class WithFirst final : public Device {
 public:
  WithFirst(const Device& volume, Bytes first)
      : Device(volume.sector_size(), volume.sectors(), volume.identity()),
        volume_(volume),
        first_(std::move(first)) {}
  [[nodiscard]] std::uint64_t there() const override { return volume_.there(); }
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override {
    return lba == 0 ? 0 : volume_.next_data(lba);
  }

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override {
    const std::uint64_t own = take_first(lba, out);
    if (out.size() > own) volume_.read(lba + own / sector_size(), out.subspan(own));
  }
  void do_read_once(std::uint64_t lba, ByteSpan out) const override {
    const std::uint64_t own = take_first(lba, out);
    if (out.size() > own) volume_.read_once(lba + own / sector_size(), out.subspan(own));
  }
  // How many bytes of what is read are the other sector's.
  std::uint64_t take_first(std::uint64_t lba, ByteSpan out) const {
    if (lba > 0) return 0;
    std::copy(first_.begin(), first_.end(), out.begin());
    return first_.size();
  }
  void do_write(std::uint64_t lba, ByteView /*data*/) override {
    throw Error(ErrorCode::device_write, "a volume that is only looked at isn't written",
                {.subject = identity().path, .sector = lba});
  }
  void do_flush() override {}

  const Device& volume_;
  Bytes first_;
};

// FAT32's is in its reserved sectors, most often in the sixth; NTFS's in the last one of all.
std::vector<SectorWrite> sectors_like_one(const Device& volume) {
  std::vector<SectorWrite> out;
  const std::size_t size = volume.sector_size();
  const Bytes first = device::read_if_given(volume, 0).value_or(Bytes(size));
  const auto look_at = [&](std::uint64_t at, ByteView sector) {
    if (has_boot_signature(sector) && !std::equal(sector.begin(), sector.end(), first.begin()))
      out.push_back({at, {sector.begin(), sector.end()}});
  };
  const std::uint64_t front = std::min(reserved, volume.sectors());
  const auto all = device::read_if_given(volume, 0, front);
  for (std::uint64_t at = 1; at < front; ++at) {
    if (all) {
      look_at(at, ByteView(*all).subspan(at * size, size));
    } else if (const auto sector = device::read_if_given(volume, at)) {
      look_at(at, *sector);
    }
  }
  if (volume.sectors() > front) {
    if (const auto last = device::read_if_given(volume, volume.sectors() - 1))
      look_at(volume.sectors() - 1, *last);
  }
  return out;
}

// What a volume with such a sector can't say, or the device can't give.
template <typename Attempt>
std::optional<Error> failure_of(const Attempt& attempt) {
  try {
    attempt();
    return std::nullopt;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
    return e;
  }
}

std::optional<BootCopy> open_with(const Device& volume, const SectorWrite& copy,
                                  const VolumeRow& row, const ReadOptions& options,
                                  CopyCheck check) {
  const WithFirst whole(volume, copy.data);
  BootCopy out{copy.lba, copy.data, {}};
  if (failure_of([&] { out.info = row.open(whole, options)->info(); })) return std::nullopt;
  if (check == CopyCheck::none) return out;
  if (const auto failed =
          failure_of([&] { out.findings = row.check(whole, options, &out.totals); }))
    out.findings = {
        {Rule::volume_damaged, Severity::error, failed->place(), failed->message(), false}};
  return out;
}

}  // namespace

bool BootCopy::is_sound() const {
  return std::none_of(findings.begin(), findings.end(), [](const Finding& f) {
    return f.severity == Severity::error && !f.repairable;
  });
}

std::unique_ptr<Device> with_first(const Device& volume, Bytes sector) {
  return std::make_unique<WithFirst>(volume, std::move(sector));
}

std::vector<BootCopy> find_boot_copies(const Device& volume, const ReadOptions& options,
                                       CopyCheck check) {
  std::vector<BootCopy> out;
  std::size_t opened = 0;
  for (const SectorWrite& copy : sectors_like_one(volume)) {
    const VolumeRow* row = row_of_boot(copy.data);
    if (row == nullptr) continue;
    const auto own = row->boot_copies(copy.data, volume);
    if (std::find(own.begin(), own.end(), copy.lba) == own.end() || ++opened > max_opened) continue;
    if (auto there = open_with(volume, copy, *row, options, check))
      out.push_back(std::move(*there));
  }
  return out;
}

}  // namespace nuvrat::volume

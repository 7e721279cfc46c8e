#include <nuvrat/device.h>

#include "device/sector_store.h"

namespace nuvrat {

Overlay::Overlay(const Device& base)
    : Device(base.sector_size(), base.sectors(), base.identity(), base.physical()),
      base_(base),
      written_(std::make_unique<device::SectorStore>(base.sector_size())) {}

Overlay::~Overlay() = default;

SectorSet Overlay::written() const {
  return written_->sectors();
}

std::uint64_t Overlay::next_data(std::uint64_t lba) const {
  const std::uint64_t own = written_->first_from(lba, sectors());
  return own == lba ? lba : std::min(own, base_.next_data(lba));
}

template <typename Read>
void Overlay::read_parts(std::uint64_t lba, ByteSpan out, Read below) const {
  const auto bytes_of = [&](SectorRange part) {
    return out.subspan((part.first - lba) * sector_size(), part.count * sector_size());
  };
  written_->each_part(
      {lba, out.size() / sector_size()},
      [&](SectorRange part, std::uint64_t offset) { written_->read(offset, bytes_of(part)); },
      [&](SectorRange part) { below(part.first, bytes_of(part)); });
}

void Overlay::do_read(std::uint64_t lba, ByteSpan out) const {
  read_parts(lba, out, [this](std::uint64_t at, ByteSpan part) { base_.read(at, part); });
}

void Overlay::do_read_once(std::uint64_t lba, ByteSpan out) const {
  read_parts(lba, out, [this](std::uint64_t at, ByteSpan part) { base_.read_once(at, part); });
}

void Overlay::do_write(std::uint64_t lba, ByteView data) {
  written_->write(lba, data);
}

}  // namespace nuvrat

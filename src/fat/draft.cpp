#include "fat/draft.h"

namespace nuvrat::fat {

Bytes& Draft::at(std::uint64_t lba) {
  auto [it, added] = sectors_.try_emplace(lba);
  if (added) it->second = device_.read(place_.first + lba);
  return it->second;
}

std::vector<SectorWrite> Draft::changes(const Draft* base) const {
  std::vector<SectorWrite> out;
  for (const auto& [lba, data] : sectors_) {
    const auto under = base == nullptr ? sectors_.end() : base->sectors_.find(lba);
    const bool known = base != nullptr && under != base->sectors_.end();
    if (data != (known ? under->second : device_.read(place_.first + lba)))
      out.push_back({place_.first + lba, data});
  }
  return out;
}

void Draft::set_entry(std::uint32_t cluster, std::uint32_t value) {
  for (std::uint32_t copy = 0; copy < geometry_.fats; ++copy) {
    if (geometry_.mirrored || copy == geometry_.active_fat) set_entry(copy, cluster, value);
  }
}

void Draft::set_entry(std::uint32_t copy, std::uint32_t cluster, std::uint32_t value) {
  const std::uint64_t start = geometry_.fat_start(copy) * geometry_.sector_bytes;
  if (geometry_.kind == VolumeKind::fat12) {
    set_entry12(start, cluster, value);
    return;
  }
  const unsigned width = geometry_.kind == VolumeKind::fat16 ? 2 : 4;
  for (unsigned i = 0; i < width; ++i) {
    std::uint8_t& b = byte_at(start + std::uint64_t{cluster} * width + i);
    const auto part = static_cast<std::uint8_t>(value >> 8 * i);
    b = i == 3 ? static_cast<std::uint8_t>((b & 0xF0) | (part & 0x0F)) : part;
  }
}

void Draft::set_entry12(std::uint64_t start, std::uint32_t cluster, std::uint32_t value) {
  std::uint8_t& low = byte_at(start + cluster + cluster / 2);
  if ((cluster & 1) != 0) {
    low = static_cast<std::uint8_t>((low & 0x0F) | (value & 0x0F) << 4);
    byte_at(start + cluster + cluster / 2 + 1) = static_cast<std::uint8_t>(value >> 4);
  } else {
    low = static_cast<std::uint8_t>(value);
    std::uint8_t& high = byte_at(start + cluster + cluster / 2 + 1);
    high = static_cast<std::uint8_t>((high & 0xF0) | (value >> 8 & 0x0F));
  }
}

std::optional<std::uint64_t> Draft::sector_of_entry(std::uint32_t copy,
                                                    std::uint32_t cluster) const {
  const std::uint64_t start = geometry_.fat_start(copy) * geometry_.sector_bytes;
  const std::uint64_t size = device_.sector_size();
  if (geometry_.kind != VolumeKind::fat12)
    return (start + std::uint64_t{cluster} * (geometry_.kind == VolumeKind::fat16 ? 2 : 4)) / size;
  const std::uint64_t byte = start + cluster + cluster / 2;
  if (byte / size != (byte + 1) / size) return std::nullopt;
  return byte / size;
}

}  // namespace nuvrat::fat

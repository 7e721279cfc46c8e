#include "fat/fat_map.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "device/given.h"

namespace nuvrat::fat {
namespace {

constexpr std::uint64_t piece_bytes = 1u << 20;

}  // namespace

Map::Map(const Device& device, const Geometry& geometry, std::uint32_t copy)
    : geometry_(geometry), ratio_(geometry.sector_bytes / device.sector_size()) {
  start_ = geometry.fat_start(copy) * ratio_;
  if (geometry.kind == VolumeKind::fat12) {
    read_fat12(device);
  } else {
    read_wide(device, geometry.kind == VolumeKind::fat16 ? 2 : 4);
  }
  runs_.shrink_to_fit();
}

// The first two entries are of no cluster: a media byte under ones, and flags.
void Map::take_flags(std::uint32_t cluster, std::uint32_t entry) {
  const bool wide = geometry_.kind == VolumeKind::fat32;
  const std::uint32_t ones = wide ? 0x0FFFFFF0 : 0xFFF0;
  const std::uint32_t flags = wide ? 0x0C000000 : 0xC000;
  if (cluster == 0) begins_well_ = (entry & ones) == ones;
  if (cluster == 1) clean_ = (entry & flags) == flags;
}

void Map::take(std::uint32_t cluster, std::uint32_t entry) {
  if (entry == 0) {
    ++free_;
    return;
  }
  if (entry == bad_cluster) {
    if (!bad_.empty() && bad_.back().first + bad_.back().count == cluster) {
      ++bad_.back().count;
    } else {
      bad_.push_back({cluster, 1});
    }
    return;
  }
  if (!runs_.empty() && runs_.back().next == cluster &&
      runs_.back().first + runs_.back().count == cluster) {
    ++runs_.back().count;
    runs_.back().next = entry;
  } else {
    runs_.push_back({cluster, 1, entry});
  }
}

// `at`: in sectors of the device, from the FAT's first one.
void Map::read(const Device& device, std::uint64_t at, ByteSpan out) {
  try {
    device.read(start_ + at, out);
    return;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read || !geometry_.mirrored || geometry_.fats < 2) throw;
  }
  const std::size_t size = device.sector_size();
  for (std::size_t byte = 0; byte < out.size(); byte += size, ++at) {
    const ByteSpan sector = out.subspan(byte, size);
    if (device::is_given(device, start_ + at, sector)) continue;
    std::uint32_t copy = 0;
    while (copy < geometry_.fats &&
           !device::is_given(device, geometry_.fat_start(copy) * ratio_ + at, sector))
      ++copy;
    if (copy == geometry_.fats) device.read(start_ + at, sector);  // fails, and says where
    replaced_.add({start_ + at, 1});
  }
}

void Map::read_fat12(const Device& device) {
  Bytes fat(std::uint64_t{geometry_.fat_sectors} * ratio_ * device.sector_size());
  read(device, 0, fat);
  for (std::uint32_t c = 2; c <= geometry_.last_cluster(); ++c) {
    const std::size_t at = c + c / 2;
    const std::uint32_t pair = fat[at] | static_cast<std::uint32_t>(fat[at + 1]) << 8;
    std::uint32_t entry = (c & 1) != 0 ? pair >> 4 : pair & 0xFFF;
    if (entry >= 0xFF8) entry = end_of_chain;
    if (entry == 0xFF7) entry = bad_cluster;
    take(c, entry);
  }
}

void Map::read_wide(const Device& device, std::uint32_t width) {
  const std::uint64_t sector = device.sector_size();
  const std::uint64_t entries = std::uint64_t{geometry_.last_cluster()} + 1;
  const std::uint64_t sectors = div_up(entries * width, sector);
  Bytes piece(std::min(piece_bytes, sectors * sector));
  for (std::uint64_t at = 0; at < sectors;) {
    const std::uint64_t data =
        std::min(sectors, std::max(device.next_data(start_ + at), start_ + at) - start_);
    const std::uint64_t first = at * sector / width;
    if (data > at && at > 0) {  // a hole: all of it is free clusters
      const std::uint64_t stop = std::min(entries, data * sector / width);
      free_ += static_cast<std::uint32_t>(stop - first);
      at = data;
      continue;
    }
    const std::uint64_t count = std::min(piece_bytes / sector, sectors - at);
    const ByteSpan bytes = ByteSpan(piece).first(count * sector);
    read(device, at, bytes);
    const std::uint64_t stop = std::min(entries, first + bytes.size() / width);
    for (std::uint64_t c = first; c < stop; ++c) {
      const std::size_t i = (c - first) * width;
      std::uint32_t entry = bytes[i] | static_cast<std::uint32_t>(bytes[i + 1]) << 8;
      if (width == 4) {
        entry |= static_cast<std::uint32_t>(bytes[i + 2]) << 16 |
                 static_cast<std::uint32_t>(bytes[i + 3]) << 24;
      }
      if (c < 2) {
        take_flags(static_cast<std::uint32_t>(c), entry);
        continue;
      }
      if (width == 4) entry &= 0x0FFFFFFF;
      if (entry >= (width == 2 ? 0xFFF8u : 0x0FFFFFF8u)) entry = end_of_chain;
      if (width == 2 && entry == 0xFFF7) entry = bad_cluster;
      take(static_cast<std::uint32_t>(c), entry);
    }
    at += count;
  }
}

Map::Chain Map::chain(std::uint32_t first, base::Budget& budget) const {
  Chain out;
  const auto ends = [&out](Fault fault, std::string text) {
    out.fault = fault;
    out.text = std::move(text);
    return out;
  };
  std::uint32_t cluster = first;
  while (true) {
    if (!geometry_.valid_cluster(cluster)) {
      return ends(Fault::outside,
                  cluster == 0 || cluster == 1
                      ? fmt::format("it leads to cluster {}, which does not exist", cluster)
                      : fmt::format("it leads to cluster {}, but the last one is {}", cluster,
                                    geometry_.last_cluster()));
    }
    auto run = std::upper_bound(runs_.begin(), runs_.end(), cluster,
                                [](std::uint32_t c, const Run& r) { return c < r.first; });
    const bool found =
        run != runs_.begin() && cluster - std::prev(run)->first < std::prev(run)->count;
    if (!found) {
      return is_bad(cluster)
                 ? ends(Fault::bad,
                        fmt::format("it leads to cluster {}, which is marked bad", cluster))
                 : ends(Fault::free, fmt::format("it leads to cluster {}, which is free", cluster));
    }
    --run;
    const std::uint32_t count = run->count - (cluster - run->first);
    if (!budget.take(count)) {
      return ends(Fault::shared,
                  "so many chains share their clusters that it is not followed to its end");
    }
    out.ranges.push_back({cluster, count});
    out.clusters += count;
    if (out.clusters > geometry_.clusters) return ends(Fault::circle, "it runs in a circle");
    if (run->next == end_of_chain) return out;
    cluster = run->next;
  }
}

std::uint64_t Map::used_clusters() const {
  std::uint64_t out = 0;
  for (const Run& r : runs_) out += r.count;
  return out;
}

std::size_t Map::run_with(std::uint32_t cluster) const {
  const auto after = std::upper_bound(runs_.begin(), runs_.end(), cluster,
                                      [](std::uint32_t c, const Run& r) { return c < r.first; });
  return static_cast<std::size_t>(after - runs_.begin()) - 1;
}

bool Map::same_as(const Map& other) const {
  const auto same_range = [](const ClusterRange& a, const ClusterRange& b) {
    return a.first == b.first && a.count == b.count;
  };
  const auto same_run = [](const Run& a, const Run& b) {
    return a.first == b.first && a.count == b.count && a.next == b.next;
  };
  return clean_ == other.clean_ &&
         std::equal(bad_.begin(), bad_.end(), other.bad_.begin(), other.bad_.end(), same_range) &&
         std::equal(runs_.begin(), runs_.end(), other.runs_.begin(), other.runs_.end(), same_run);
}

bool Map::is_bad(std::uint32_t cluster) const {
  const auto after =
      std::upper_bound(bad_.begin(), bad_.end(), cluster,
                       [](std::uint32_t c, const ClusterRange& b) { return c < b.first; });
  return after != bad_.begin() && cluster - std::prev(after)->first < std::prev(after)->count;
}

std::uint32_t Map::first_free() const {
  std::uint32_t at = 2;
  each_used([&at](ClusterRange r) {
    if (r.first == at) at += r.count;
  });
  return geometry_.valid_cluster(at) ? at : 0;
}

std::vector<ClusterRange> Map::runs_in(ClusterRange range) const {
  std::vector<ClusterRange> out;
  const std::uint32_t end = range.first + range.count;
  auto run = std::upper_bound(runs_.begin(), runs_.end(), range.first,
                              [](std::uint32_t c, const Run& r) { return c < r.first; });
  if (run != runs_.begin()) --run;
  for (; run != runs_.end() && run->first < end; ++run) {
    const std::uint32_t first = std::max(run->first, range.first);
    const std::uint32_t stop = std::min(run->first + run->count, end);
    if (first < stop) out.push_back({first, stop - first});
  }
  return out;
}

std::uint32_t Map::next_after(ClusterRange range) const {
  const std::uint32_t last = range.first + range.count - 1;
  auto run = std::upper_bound(runs_.begin(), runs_.end(), last,
                              [](std::uint32_t c, const Run& r) { return c < r.first; });
  if (run == runs_.begin()) return 0;
  --run;
  return last == run->first + run->count - 1 ? run->next : last + 1;
}

void Map::each_used(const std::function<void(ClusterRange)>& visit) const {
  auto run = runs_.begin();
  auto bad = bad_.begin();
  while (run != runs_.end() || bad != bad_.end()) {
    if (bad == bad_.end() || (run != runs_.end() && run->first < bad->first)) {
      visit({run->first, run->count});
      ++run;
    } else {
      visit(*bad++);
    }
  }
}

std::string unreadable_fat_words(std::uint64_t sectors) {
  return fmt::format("{} of the FAT can't be read: what its copy has there is taken",
                     sectors == 1 ? "a sector" : fmt::format("{} sectors", sectors));
}

}  // namespace nuvrat::fat

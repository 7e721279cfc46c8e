#include "volumes.h"

#include <algorithm>
#include <functional>

#include <fmt/core.h>

#include "orrelune.h"

namespace volumes {

using namespace nuvrat;

namespace {

FatFormat fat(VolumeKind kind, std::uint32_t cluster_sectors) {
  FatFormat format;
  format.kind = kind;
  format.cluster_sectors = cluster_sectors;
  format.label = "BOJE 7";
  return format;
}

// Long names of many scripts, deep folders, a large one, bad clusters.
void make_names(Device& device) {
  FatWriter writer(device, fat(VolumeKind::fat32, 1));
  writer.add_directory("many");
  for (int i = 0; i < 9000; ++i)
    writer.add_file(fmt::format("many/tide gauge number {} of the Orrelune.txt", i), {});
  std::string longest;
  for (int i = 0; i < 127; ++i) longest += i % 2 == 0 ? "\xF0\x9F\x8C\x8A" : "\xF0\x90\x8C\xB0";
  writer.add_directory("above");
  writer.add_directory("above/" + longest.substr(0, 240));  // 120 units beyond the basic plane
  writer.add_file("above/" + longest.substr(0, 240) + "/" + std::string(255, 'x'), noise(700, 1));
  writer.add_file(longest, noise(10, 4));  // 254 units
  for (const char* name : {"Приливы.csv", "潮位観測.txt", "Ωμέγα ςσ.dat", "ıstanbul İ.txt",
                           "straße ẞ.txt", "ǅ ǆ Ǆx.bin", "ﬁ ligature.txt", "~tilde $.x",
                           "LOWER.txt", "lower2.TXT", "a.b.c.d", ".hidden", "name with trailing x"})
    writer.add_file(name, noise(100, 2));
  std::string deep;
  for (int i = 0; i < 60; ++i) {
    deep += (deep.empty() ? "" : "/") + fmt::format("level {}", i);
    writer.add_directory(deep);
  }
  writer.add_file(deep + "/bottom", noise(5000, 3));
  writer.mark_bad(60000, 40);
  writer.mark_bad(70000, 1);
  writer.finish();
}

// Files in thousands of pieces, and free space in single clusters: $MFT itself needs a list.
void make_pieces(Device& device, std::uint32_t cluster) {
  FatFormat format = fat(VolumeKind::fat32, cluster);
  align_data(format, device.sectors(), device.sector_size(), true);
  FatWriter writer(device, format);
  FatFileInfo scattered;
  scattered.placement = Placement::scattered;
  const std::size_t bytes = std::size_t{cluster} * device.sector_size();
  writer.add_file("pieces.bin", noise(bytes * 20000, 4), scattered);
  writer.add_file("few.bin", noise(bytes * 300, 5), scattered);
  writer.add_directory("folder");
  for (int i = 0; i < 4000; ++i) writer.add_file(fmt::format("folder/reading {}.csv", i), {});
  writer.add_file(std::string(250, 'n') + ".bin", noise(bytes * 400, 6), scattered);
  // What is left in one piece goes to one file.
  const std::uint64_t singles = cluster == 1 ? 22400 : 20600;
  writer.add_sparse_file("rest.bin", (writer.free_clusters() - singles) * bytes);
  writer.finish();
}

// The last cluster in use and no sector behind it.
void make_full_to_the_end(Device& device) {
  FatWriter writer(device, fat(VolumeKind::fat32, 1));
  FatFileInfo last;
  last.placement = Placement::at_end;
  writer.add_file("at the end.bin", noise(2000, 9), last);
  writer.finish();
}

// So little in front of the data area that the first files lie where $Boot must.
void make_short_front(Device& device) {
  FatFormat format = fat(VolumeKind::fat12, 8);
  format.root_entries = 16;
  FatWriter writer(device, format);
  for (int i = 0; i < 8; ++i) writer.add_file(fmt::format("F{}.BIN", i), noise(9000, 20));
  writer.finish();
}

void make_plain(Device& device, VolumeKind kind, std::uint32_t cluster) {
  FatFormat format = fat(kind, cluster);
  align_data(format, device.sectors(), device.sector_size(), true);
  FatWriter writer(device, format);
  Random random(device.sectors());
  orrelune::fill_volume(writer, random, 40);
  writer.finish();
}

void make_crowd(Device& device, unsigned files, unsigned name) {
  FatWriter writer(device, fat(VolumeKind::fat32, 8));
  writer.add_directory("TIDES");
  for (unsigned i = 0; i < files; ++i)
    writer.add_file(fmt::format("TIDES/G{:07}{:x>{}}.CSV", i, "", name - 12), {});
  writer.finish();
}

// A FAT volume's bytes, by the format's description.
class FatBytes {
 public:
  explicit FatBytes(Device& device) : device_(device), boot_(device.read(0)) {
    fat_sectors_ = disk_bytes::little(boot_, 22, 2) != 0 ? disk_bytes::little(boot_, 22, 2)
                                                         : disk_bytes::little(boot_, 36, 4);
    width_ = disk_bytes::little(boot_, 22, 2) != 0 ? 2 : 4;
    fat_ = device.read(disk_bytes::little(boot_, 14, 2), fat_sectors_);
    const std::uint64_t root = disk_bytes::little(boot_, 14, 2) + boot_[16] * fat_sectors_;
    data_ = root + disk_bytes::little(boot_, 17, 2) * 32 / device.sector_size();
    root_ = width_ == 2 ? SectorRange{root, data_ - root}
                        : SectorRange{sector_of(disk_bytes::little(boot_, 44, 4)), boot_[13]};
  }
  ~FatBytes() {
    for (unsigned copy = 0; copy < boot_[16]; ++copy)
      device_.write(disk_bytes::little(boot_, 14, 2) + copy * fat_sectors_, fat_);
  }
  FatBytes(const FatBytes&) = delete;
  FatBytes& operator=(const FatBytes&) = delete;

  [[nodiscard]] std::uint64_t sector_of(std::uint64_t cluster) const {
    return data_ + (cluster - 2) * boot_[13];
  }
  [[nodiscard]] std::uint64_t next(std::uint64_t cluster) const {
    return disk_bytes::little(fat_, cluster * width_, width_) & 0x0FFFFFFF;
  }
  [[nodiscard]] bool is_end(std::uint64_t entry) const {
    return entry < 2 || entry >= (width_ == 2 ? 0xFFF7u : 0x0FFFFFF7u);
  }
  void free_chain(std::uint64_t cluster) {
    while (!is_end(cluster)) {
      const std::uint64_t after = next(cluster);
      for (std::size_t i = 0; i < width_; ++i) fat_[cluster * width_ + i] = 0;
      cluster = after;
    }
  }
  [[nodiscard]] const SectorRange& root() const { return root_; }
  [[nodiscard]] std::uint64_t cluster_sectors() const { return boot_[13]; }

 private:
  Device& device_;
  Bytes boot_;
  std::uint64_t fat_sectors_ = 0;
  unsigned width_ = 2;
  Bytes fat_;
  std::uint64_t data_ = 0;
  SectorRange root_;
};

std::uint64_t cluster_of(const Bytes& sector, std::size_t at) {
  return disk_bytes::little(sector, at + 26, 2) | disk_bytes::little(sector, at + 20, 2) << 16;
}

void make_aged(Device& device, VolumeKind kind, std::uint32_t cluster, std::uint64_t seed) {
  FatWriter writer(device, fat(kind, cluster));
  writer.add_directory("TIDES");
  Random random(seed);
  const std::uint64_t bytes = std::uint64_t{cluster} * device.sector_size();
  // Of each third seed, holes are too short for $MFT's start.
  const bool short_holes = seed % 3 == 0;
  const std::uint64_t longest = short_holes ? 12288 / bytes : seed % 3 == 1 ? 60 : 140;
  const std::uint64_t spare = writer.free_clusters() / 50 + 40;
  std::uint64_t count = 0;
  for (std::uint64_t i = 0; writer.free_clusters() > spare + longest; ++i) {
    FatFileInfo info;
    if (!short_holes && random.below(10) == 0) info.placement = Placement::scattered;
    const std::uint64_t size = 1 + random.below(longest * bytes);
    try {
      writer.add_file(fmt::format("TIDES/G{:07}.CSV", i), noise(size, seed * 1000 + i), info);
      ++count;
    } catch (const Error&) {
      continue;  // no place of that kind is left
    }
  }
  if (short_holes) {
    const std::uint64_t folder = (count + 2) * 32 / bytes + 2;  // and the root
    writer.add_sparse_file("REST.BIN", (writer.free_clusters() - folder) * bytes);
  }
  writer.finish();
  const std::uint64_t stay = 2 + random.below(3);
  delete_files(device, [&](std::size_t number) {
    return short_holes ? number % 3 == 1 : random.below(6) >= stay;
  });
}

}  // namespace

Aged aged(std::uint64_t seed) {
  // Each thirteenth: FAT32 with clusters of either size, and with each kind of holes.
  const VolumeKind kind = seed % 13 == 7 ? VolumeKind::fat32 : VolumeKind::fat16;
  const std::uint32_t cluster = seed % 2 == 0 ? 2 : 1;
  const std::uint64_t clusters = kind == VolumeKind::fat32 ? 66500 : 6000 + seed % 5 * 900;
  return {clusters * cluster + 1200,
          [=](Device& device) { make_aged(device, kind, cluster, seed); }};
}

void delete_files(Device& device, const std::function<bool(std::size_t)>& chosen) {
  FatBytes fat(device);
  std::uint64_t folder = 0;
  for (std::uint64_t lba = fat.root().first; lba < fat.root().end() && folder == 0; ++lba) {
    const Bytes sector = device.read(lba);
    for (std::size_t at = 0; at < sector.size(); at += 32) {
      if (std::equal(sector.begin() + static_cast<long>(at),
                     sector.begin() + static_cast<long>(at) + 8, "TIDES   "))
        folder = cluster_of(sector, at);
    }
  }
  std::size_t number = 0;
  for (; !fat.is_end(folder); folder = fat.next(folder)) {
    for (std::uint64_t i = 0; i < fat.cluster_sectors(); ++i) {
      Bytes sector = device.read(fat.sector_of(folder) + i);
      for (std::size_t at = 0; at < sector.size(); at += 32) {
        if (sector[at] != 'G' || !chosen(number++)) continue;
        fat.free_chain(cluster_of(sector, at));
        sector[at] = 0xE5;
      }
      device.write(fat.sector_of(folder) + i, sector);
    }
  }
}

std::vector<Volume> all(unsigned crowd, unsigned name) {
  return {
      {"names, depth and bad clusters", 400000, 512, make_names},
      {"thousands of pieces, 512", 200000, 512, [](Device& d) { make_pieces(d, 1); }},
      {"thousands of pieces, 4096", 700000, 512, [](Device& d) { make_pieces(d, 8); }},
      {"full to the end", 80034, 512, make_full_to_the_end},
      {"a short front", 6000, 512, make_short_front},
      {"clusters of 64 KiB", 8500000, 512,
       [](Device& d) { make_plain(d, VolumeKind::fat32, 128); }},
      {"FAT16 with clusters of 32 KiB", 3000000, 512,
       [](Device& d) { make_plain(d, VolumeKind::fat16, 64); }},
      {"sectors of 4096", 70000, 4096, [](Device& d) { make_plain(d, VolumeKind::fat32, 1); }},
      {"sectors of 4096, clusters of 32 KiB", 100000, 4096,
       [](Device& d) { make_plain(d, VolumeKind::fat16, 8); }},
      {fmt::format("a folder of {}", crowd), 900000, 512,
       [=](Device& d) { make_crowd(d, crowd, name); }},
  };
}

}  // namespace volumes

#include "volumes.h"

#include <fmt/format.h>

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

void make_crowd(Device& device) {
  FatWriter writer(device, fat(VolumeKind::fat32, 8));
  writer.add_directory("TIDES");
  for (int i = 0; i < 60000; ++i) writer.add_file(fmt::format("TIDES/G{:07}.CSV", i), {});
  writer.finish();
}

}  // namespace

Bytes noise(std::size_t size, std::uint64_t seed) {
  Bytes out(size);
  Random(seed).fill(out);
  return out;
}

void align_data(FatFormat& format, std::uint64_t sectors, std::uint32_t sector_size, bool aligned) {
  if (format.reserved_sectors == 0)
    format.reserved_sectors = format.kind == VolumeKind::fat32 ? 32 : 1;
  for (int round = 0; round < 3; ++round) {
    MemoryDevice trial(sectors, sector_size);
    FatWriter(trial, format).finish();
    const auto first = open_volume(trial, ReadOptions{Zone(), 437})->info().first_cluster;
    const auto over = static_cast<std::uint32_t>(first % format.cluster_sectors);
    if (aligned && over != 0) format.reserved_sectors += format.cluster_sectors - over;
    if (!aligned && over == 0 && format.cluster_sectors > 1) format.reserved_sectors += 1;
  }
}

const std::vector<Volume>& all() {
  static const std::vector<Volume> list = {
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
      {"a folder of 60,000", 900000, 512, make_crowd},
  };
  return list;
}

}  // namespace volumes

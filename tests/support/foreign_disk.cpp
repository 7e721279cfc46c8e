#include "foreign_disk.h"

#include <algorithm>

#include "disk_bytes.h"
#include "foreign_fat.h"
#include "foreign_gpt.h"
#include "foreign_mbr.h"
#include "foreign_ntfs.h"

namespace foreign {

using namespace nuvrat;

namespace {

constexpr std::uint64_t random_sectors = 160 * 2048;

// A volume that begins there and its length; 0: there is no room for it.
std::uint64_t put_volume(Device& disk, std::uint64_t start, std::uint64_t room, Random& random,
                         bool& ntfs) {
  ntfs = random.below(2) == 0;
  std::unique_ptr<MemoryDevice> from;
  std::uint64_t sectors = 0;
  if (ntfs) {
    std::vector<NtfsShape> shapes = ntfs_shapes();
    std::erase_if(shapes, [](const NtfsShape& s) { return s.sector_bytes != 512; });
    const NtfsShape& shape = shapes[random.below(shapes.size())];
    sectors = (12 + random.below(30)) * 2048;
    if (sectors > room) return 0;
    from = foreign::ntfs(shape, sectors * 512, start * 512).disk;
  } else {
    std::vector<FatShape> shapes = fat_shapes();
    std::erase_if(shapes, [](const FatShape& s) {
      return s.sector_bytes != 512 || std::uint64_t{s.clusters} * s.cluster_sectors > 130000;
    });
    const FatShape& shape = shapes[random.below(shapes.size())];
    from = fat(shape, start, start + random_sectors).disk;
    sectors = read_table(*from).layout.partitions.at(0).sectors;
    if (sectors > room) return 0;
  }
  disk_bytes::copy_data(*from, disk, start);
  return sectors;
}

}  // namespace

void put_tides(Device& disk, SectorRange place, VolumeKind kind, std::uint32_t cluster_sectors,
               unsigned seed) {
  WritableWindow window(disk, place);
  FatFormat format;
  format.kind = kind;
  format.cluster_sectors = cluster_sectors;
  format.label = "GAUGE " + std::to_string(seed);
  format.hidden_sectors = place.first;
  format.serial = seed;
  FatWriter writer(window, format);
  writer.add_directory("TIDES");
  for (unsigned i = 0; i < 20; ++i)
    writer.add_file("TIDES/G" + std::to_string(i), disk_bytes::noise(i * 700, seed * 100 + i));
  writer.finish();
}

std::unique_ptr<MemoryDevice> random_disk(Random& random) {
  auto disk = std::make_unique<MemoryDevice>(random_sectors, 512);
  Layout layout;
  layout.sector_size = 512;
  layout.disk_sectors = random_sectors;
  const bool gpt = random.below(2) == 0;
  layout.kind = gpt ? TableKind::gpt : TableKind::mbr;
  if (gpt) {
    layout.disk_guid = Guid::random(random);
    layout.first_usable = gpt_first_usable(512);
    layout.last_usable = gpt_usable_end(random_sectors, 512) - 1;
  } else {
    layout.disk_signature = 0x0DDBA115;
  }
  // Aligned or by tracks, as old systems did.
  const std::uint64_t unit = random.below(2) == 0 ? 2048 : 63;
  const bool logicals = !gpt && random.below(2) == 0;
  std::uint64_t at = gpt ? 2048 : unit;
  for (unsigned number = 1; number <= 4 && at + 20000 < random_sectors; ++number) {
    Partition p;
    p.number = number;
    p.role = gpt ? Role::gpt : Role::primary;
    p.start = at;
    // Of an MBR with logicals the second is a container up to the end.
    const bool inside = logicals && number > 1;
    if (inside && number == 2) {
      Partition container;
      container.number = 2;
      container.role = Role::extended;
      container.start = at;
      container.sectors = random_sectors - at - 64;
      container.type = std::uint8_t{0x0F};
      layout.partitions.push_back(container);
    }
    if (inside) {
      p.role = Role::logical;
      p.number = number + 3;
      p.table_sector = at;
      p.start = at + unit;
    }
    bool ntfs = false;
    p.sectors = put_volume(*disk, p.start, random_sectors - p.start - 200, random, ntfs);
    if (p.sectors == 0) break;
    p.type = std::uint8_t{ntfs ? std::uint8_t{0x07} : std::uint8_t{0x0C}};
    if (gpt) {
      p.type = basic_data_guid();
      p.unique_id = Guid::random(random);
    }
    layout.partitions.push_back(p);
    at = p.start + p.sectors + random.below(3) * random.below(20000);
    at = (at + unit - 1) / unit * unit;
    if (random.below(3) == 0) break;
  }
  layout.sort();
  write_new_table(*disk, layout);
  return disk;
}

std::unique_ptr<MemoryDevice> random_table(Random& random) {
  if (random.below(3) == 0) return gpt(gpt_shapes()[random.below(gpt_shapes().size())]);
  return mbr(mbr_shapes()[random.below(mbr_shapes().size())]);
}

}  // namespace foreign

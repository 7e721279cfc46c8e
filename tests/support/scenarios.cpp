#include "scenarios.h"

#include <algorithm>
#include <filesystem>

#include <nuvrat/rewrite.h>

#include "disk_bytes.h"
#include "foreign_gpt.h"
#include "orrelune.h"
#include "system_disk.h"
#include "volumes.h"

namespace scenarios {

using namespace nuvrat;

namespace {

void fill(Device& device, const Partition& p, std::uint64_t seed) {
  WritableWindow window(device, p.range());
  FatFormat format;
  const std::uint64_t clusters = p.sectors / 2;
  format.kind = clusters < 4200 ? VolumeKind::fat12 : VolumeKind::fat16;
  format.cluster_sectors = 2;
  format.label = "V" + std::to_string(p.number);
  format.hidden_sectors = p.start;
  Random random(seed);
  FatWriter writer(window, format);
  orrelune::fill_volume(writer, random, 6);
  writer.finish();
}

// Two primaries (one active), a raw one, two logicals with their EBRs a little in front of them.
void make_mbr(Device& device) {
  using disk_bytes::add;
  Layout layout = disk_bytes::mbr(device.sectors(), device.sector_size(), 0x5EA51DE5);
  const std::uint64_t unit = layout.sector_size == 512 ? 1 : 8;
  add(layout, Role::primary, {64 / unit, 9600 / unit}, 0x0E).active = true;
  add(layout, Role::primary, {10000 / unit, 2000 / unit}, 0xDA);
  add(layout, Role::extended, {20000 / unit, 40000 / unit}, 0x0F);
  add(layout, Role::logical, {20063 / unit + 1, 9000 / unit}, 0x06).table_sector = 20000 / unit;
  add(layout, Role::logical, {40016 / unit, 9000 / unit}, 0x06).table_sector = 40000 / unit;
  layout.sort();
  write_new_table(device, layout);
  for (const Partition& p : layout.data_partitions()) {
    if (p.number != 2) fill(device, p, p.number);
  }
  Bytes noise(64 * layout.sector_size);
  Random(9).fill(noise);
  device.write(layout.find(2)->start, noise);
  device.write(5, Bytes(layout.sector_size, 0x90));  // loader code
  device.write(device.sectors() - 3, Bytes(layout.sector_size, 0x77));
}

// As make_mbr, with a FAT16 whose second FAT differs, a chain that nobody owns, and a file with
// more clusters than it needs.
void make_mbr_fat_damage(Device& device) {
  make_mbr(device);
  const std::uint64_t p1 = device.sector_size() == 512 ? 64 : 8;
  const Bytes boot = device.read(p1);
  const std::uint64_t fat = boot[14] | boot[15] << 8;
  const std::uint64_t sectors = boot[22] | boot[23] << 8;
  for (const std::uint64_t copy : {fat, fat + sectors}) {
    Bytes middle = device.read(p1 + copy + 16);
    middle[0] = 0x01;  // cluster 4096 leads to 4097, which ends
    middle[1] = 0x10;
    middle[2] = middle[3] = 0xFF;
    device.write(p1 + copy + 16, middle);
  }
  Bytes second = device.read(p1 + fat + sectors + 17);
  second[100] = 0x42;
  device.write(p1 + fat + sectors + 17, second);
}

// One volume, its last cluster in use, no sector behind it.
void make_bare(Device& device) {
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 1;
  Random random(8);
  FatWriter writer(device, format);
  orrelune::fill_volume(writer, random, 6);
  FatFileInfo last;
  last.placement = Placement::at_end;
  writer.add_file("last.bin", Bytes(3000, 0x4C), last);
  writer.finish();
}

// A GPT with six partitions, a reserved one that an MBR has no place for, gaps of a MiB.
void make_gpt(Device& device) {
  Random random(3);
  Layout layout = disk_bytes::gpt(device.sectors(), device.sector_size(), random);
  const std::uint64_t unit = layout.sector_size == 512 ? 1 : 8;
  for (unsigned i = 0; i < 7; ++i) {
    const std::uint64_t length = (i == 1 ? 2000 : 9200) / unit;
    Partition& p = disk_bytes::add(layout, {(128 + i * 9400) / unit + 1, length}, random);
    if (i == 1) p.type = Guid("E3C9E316-0B5C-4DB8-817D-F92DF00215AE");
    p.name = "part " + std::to_string(i);
  }
  write_new_table(device, layout);
  for (const Partition& p : layout.partitions) {
    if (p.number != 2 && p.number != 5) fill(device, p, p.number);
  }
}

// As make_mbr, with a volume that believes to begin elsewhere.
void make_mbr_hidden(Device& device) {
  make_mbr(device);
  Bytes boot = device.read(20064);
  boot[28] = 63;
  boot[29] = boot[30] = boot[31] = 0;
  device.write(20064, boot);
}

// As make_mbr, with types that don't say what the volumes are.
void make_mbr_types(Device& device) {
  make_mbr(device);
  const std::uint64_t unit = device.sector_size() == 512 ? 1 : 8;
  Bytes mbr = device.read(0);
  mbr[446 + 4] = 0x83;
  device.write(0, mbr);
  Bytes ebr = device.read(40000 / unit);
  ebr[446 + 4] = 0x07;
  device.write(40000 / unit, ebr);
}

void make_gpt_types(Device& device) {
  make_gpt(device);
  Layout layout = read_table(device).layout;
  layout.partitions[2].type = Guid("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F");  // swap
  write_new_table(device, layout);
}

// As make_mbr, with a container that ends before its second logical partition.
void make_mbr_short_container(Device& device) {
  make_mbr(device);
  const std::uint64_t unit = device.sector_size() == 512 ? 1 : 8;
  Bytes mbr = device.read(0);
  const std::uint64_t sectors = 15000 / unit;
  for (unsigned i = 0; i < 4; ++i)
    mbr[446 + 32 + 12 + i] = static_cast<std::uint8_t>(sectors >> 8 * i);
  device.write(0, mbr);
}

// An NTFS volume that was a FAT one with the same files; `small`: in clusters of 512 bytes, with
// its front in use, so that way is made before FATs can lie there.
void make_ntfs(Device& device, bool small) {
  FatFormat format;
  format.kind = device.sectors() > 70000 ? VolumeKind::fat32 : VolumeKind::fat16;
  format.cluster_sectors = small ? 2 : 1;
  format.label = "BOJE 9";
  volumes::align_data(format, device.sectors(), device.sector_size(), true);
  Random random(8);
  FatWriter writer(device, format);
  orrelune::fill_volume(writer, random, 6);
  writer.add_file("front.bin", volumes::noise(small ? 900000 : 3000, 4));
  writer.finish();
  orrelune::play(device, "volume=ntfs", 8);
}

void make_ntfs_small(Device& device) {
  make_ntfs(device, true);
}
void make_ntfs_plain(Device& device) {
  make_ntfs(device, false);
}

// As make_mbr and make_gpt, with an NTFS volume that was FAT.
void make_mbr_ntfs(Device& device) {
  make_mbr(device);
  orrelune::play(device, "p5=ntfs", 8);
}
void make_gpt_ntfs(Device& device) {
  make_gpt(device);
  orrelune::play(device, "p7=ntfs", 8);
}

void make_gpt_without_primary(Device& device) {
  make_gpt(device);
  Bytes header = device.read(1);
  header[40] ^= 1;
  device.write(1, header);
}

void make_gpt_without_backup(Device& device) {
  make_gpt(device);
  device.write(device.sectors() - 1, Bytes(device.sector_size()));
  device.write(0, Bytes(device.sector_size()));
}

// A volume's first boot sector lost, or its second one.
void lose(Device& device, std::uint64_t lba) {
  device.write(lba, Bytes(device.sector_size()));
}
void make_ntfs_without_first(Device& device) {
  make_mbr_ntfs(device);
  lose(device, read_table(device).layout.find(5)->start);
}
void make_ntfs_without_second(Device& device) {
  make_gpt_ntfs(device);
  lose(device, read_table(device).layout.find(7)->range().last());
}
// Records 0 and 3 of $MFT, whose copies are in $MFTMirr; or the copies of 1 and 2.
void garble_first_records(Device& device, std::uint64_t start, bool copies) {
  const Bytes boot = device.read(start);
  const std::uint64_t lcn = disk_bytes::little(boot, copies ? 56 : 48, 8);
  const std::uint64_t first = start + lcn * boot[13];
  for (const std::uint64_t record : copies ? std::vector{1, 2} : std::vector{0, 3}) {
    const std::uint64_t lba = first + record * 1024 / device.sector_size();
    Bytes sector = device.read(lba);
    Random(record + 1).fill(ByteSpan(sector).subspan(record * 1024 % sector.size(), 512));
    device.write(lba, sector);
  }
}
void make_ntfs_without_records(Device& device) {
  make_mbr_ntfs(device);
  garble_first_records(device, read_table(device).layout.find(5)->start, false);
}
void make_ntfs_without_copies(Device& device) {
  make_gpt_ntfs(device);
  garble_first_records(device, read_table(device).layout.find(7)->start, true);
}
// A FAT32 volume without a table.
void make_bare_fat32(Device& device) {
  FatFormat format;
  format.cluster_sectors = 1;
  Random random(8);
  FatWriter writer(device, format);
  orrelune::fill_volume(writer, random, 6);
  writer.finish();
}
// Its first FAT in part garbage: the second one, and the folders, say what was there.
void make_bare_fat32_with_bad_fat(Device& device) {
  make_bare_fat32(device);
  Random random(9);
  const std::uint64_t fat = disk_bytes::little(device.read(0), 14, 2);
  for (const std::uint64_t at : {0, 1, 4}) {
    Bytes sector(device.sector_size());
    if (at > 0) random.fill(sector);
    device.write(fat + at, sector);
  }
}
void make_bare_fat32_without_first(Device& device) {
  make_bare_fat32(device);
  lose(device, 0);
}

// The station's own computer, on a disk just large enough. What takes long to make is made once.
constexpr orrelune::SystemDisk station{.boot = 40, .system = 41, .recovery = 10};
void make_station(Device& device) {
  static const auto made = [&device] {
    auto out = std::make_unique<MemoryDevice>(device.sectors(), device.sector_size());
    orrelune::make_system_disk(*out, station);
    return out;
  }();
  disk_bytes::copy_data(*made, device);
}
void make_station_uefi(Device& device) {
  static const auto made = [&device] {
    auto out = std::make_unique<MemoryDevice>(device.sectors(), device.sector_size());
    make_station(*out);
    orrelune::play(*out, "table=gpt boot=uefi", 8);
    return out;
  }();
  disk_bytes::copy_data(*made, device);
}

// Four entries, and a second array that isn't next to its header.
void make_foreign_gpt(Device& device) {
  foreign::GptShape shape;
  shape.entries = 4;
  shape.before_back = 100;
  disk_bytes::copy_data(*foreign::gpt(shape), device);
}

}  // namespace

const std::vector<Scenario>& all() {
  static const std::vector<Scenario> list = {
      {"MBR to GPT, 512", 70000, 512, make_mbr, {"table=gpt"}},
      {"MBR to GPT, 4096", 70000 / 8, 4096, make_mbr, {"table=gpt"}},
      {"GPT to MBR", 70000, 512, make_gpt, {"table=mbr"}},
      {"GPT to MBR, 4096", 70000 / 8, 4096, make_gpt, {"table=mbr", "p6=logical", "p1.active=yes"}},
      {"primary to logical", 70000, 512, make_mbr, {"p2=logical"}},
      {"logical to primary, with its boot sector", 70000, 512, make_mbr_hidden, {"p5=primary"}},
      {"both logicals to primary",
       70000,
       512,
       make_mbr,
       {"p2=logical", "p5=primary", "p6=primary"}},
      {"another active partition", 70000, 512, make_mbr, {"p2.active=yes"}},
      {"names inside a GPT", 70000, 512, make_gpt, {"p1.name=Boje", "p3.active=yes"}},
      {"primary to logical, 4096", 70000 / 8, 4096, make_mbr, {"p2=logical", "p6=primary"}},
      {"types made to match", 70000, 512, make_mbr_types, {"p1.type=match", "p6.type=match"}},
      {"a type made to match inside a GPT", 70000, 512, make_gpt_types, {"p3.type=match"}},
      {"mended chain of EBRs", 70000, 512, make_mbr_short_container, {}},
      {"FAT to NTFS, with its type", 70000, 512, make_mbr, {"p1=ntfs"}},
      {"FAT to NTFS and MBR to GPT, 4096", 70000 / 8, 4096, make_mbr, {"p6=ntfs", "table=gpt"}},
      {"a volume without a table to NTFS", 9600, 512, make_bare, {"volume=ntfs"}},
      {"way made in a FAT of short holes, then NTFS",
       volumes::aged(3).sectors,
       512,
       volumes::aged(3).make,
       {"volume=ntfs"}},
      {"NTFS to FAT16", 9600, 512, make_ntfs_plain, {"volume=fat16"}},
      {"NTFS to FAT32", 70500, 512, make_ntfs_plain, {"volume=fat32"}},
      {"FAT16 to another FAT16", 9600, 512, make_bare, {"volume.cluster=1KiB"}},
      {"way made in NTFS, then FAT16",
       20000,
       512,
       make_ntfs_small,
       {"volume=fat16", "volume.cluster=512"}},
      {"NTFS longer, and its chain anew", 70000, 512, make_mbr_ntfs, {"p5.size=max"}},
      {"NTFS shorter, with another label",
       70000,
       512,
       make_gpt_ntfs,
       {"p7.size=-1MiB", "p7.label=Boje"}},
      {"NTFS up to the end, in the room of a neighbour that goes",
       70000,
       512,
       make_gpt_ntfs,
       {"p6=gone", "p5=gone", "p7.size=max"}},
      {"FAT longer", 70000, 512, make_mbr, {"p6.size=+2MiB"}},
      {"FAT shorter, 4096", 70000 / 8, 4096, make_mbr, {"p1.size=min", "p1.label=BOJE"}},
      {"NTFS to the front", 70000, 512, make_mbr_ntfs, {"p2=gone", "p5.front=max"}},
      {"NTFS to the front, 4096, in a GPT",
       70000 / 8,
       4096,
       make_gpt_ntfs,
       {"p6=gone", "p7.front=max", "p7.size=max"}},
      {"FAT to the front, as a primary partition",
       70000,
       512,
       make_gpt,
       {"p2=gone", "p3.front=+600KiB"}},
      {"FAT to the front, and its chain", 70000, 512, make_mbr, {"p6.front=+2MiB"}},
      {"two partitions deleted", 70000, 512, make_mbr, {"p2=gone", "p6=gone"}},
      {"new volumes in gaps", 70000, 512, make_mbr, {"g1=fat16", "g2=ntfs"}},
      {"room given to a new partition",
       70000,
       512,
       make_gpt,
       {"p7=gone", "g1=ntfs:5MiB", "p6.label=SUED"}},
      {"a system disk from legacy start to UEFI",
       orrelune::system_disk_sectors(station, 512),
       512,
       make_station,
       {"table=gpt", "boot=uefi", "p3.letter=P"}},
      {"a system disk from UEFI to legacy start",
       orrelune::system_disk_sectors(station, 512),
       512,
       make_station_uefi,
       {"table=mbr", "boot=legacy"}},
      {"mended FAT", 70000, 512, make_mbr_fat_damage, {}},
      {"FAT32 whose first FAT is garbage in part", 70500, 512, make_bare_fat32_with_bad_fat, {}},
      {"mended primary GPT", 70000, 512, make_gpt_without_primary, {}},
      {"mended backup GPT", 70000, 512, make_gpt_without_backup, {}},
      {"NTFS without its first boot sector", 70000, 512, make_ntfs_without_first, {}},
      {"NTFS without its second boot sector, 4096", 70000 / 8, 4096, make_ntfs_without_second, {}},
      {"NTFS with damaged first records", 70000, 512, make_ntfs_without_records, {}},
      {"NTFS with other copies of its first records, 4096",
       70000 / 8,
       4096,
       make_ntfs_without_copies,
       {}},
      {"FAT32 without its first boot sector, and without a table",
       70500,
       512,
       make_bare_fat32_without_first,
       {}},
      {"names in a GPT of other hands", 262144, 512, make_foreign_gpt, {"p1.name=Boje"}},
  };
  return list;
}

const Scenario& named(const std::string& name) {
  const auto it = std::find_if(all().begin(), all().end(),
                               [&name](const Scenario& s) { return s.name == name; });
  if (it == all().end()) throw Error(ErrorCode::words, "there is no scenario " + name);
  return *it;
}

std::vector<std::string> seals_on_the_way(const Device& disk, const Assessment& assessment) {
  ReadOptions options;
  options.zone = Zone();
  QuietProgress quiet;
  Overlay overlay(disk);
  std::vector<std::string> out{take_manifest(overlay, options, quiet).seal()};
  for (const Step& step : assessment.steps) {
    const auto rewrite = make_rewrite(step, overlay);
    (void)Engine::inspect(*rewrite, overlay, OwnedBy(step));
    out.push_back(take_manifest(overlay, options, quiet).seal());
  }
  return out;
}

void make_image(const std::filesystem::path& path, const Scenario& scenario) {
  create_image(path, scenario.sectors, scenario.sector_size, true);
  scenario.make(*open_device(path, {true, scenario.sector_size}));
}

Assessment Scenario::assess(Device& device) const {
  ReadOptions options;
  options.zone = Zone();
  if (goals.empty()) return assess_repair(device, options, Unowned::free);
  Random random(1);
  std::vector<Goal> wanted;
  std::transform(goals.begin(), goals.end(), std::back_inserter(wanted), parse_goal);
  return nuvrat::assess(device, wanted, options, random);
}

}  // namespace scenarios

// FAT: whole volumes as scripts, a boot sector, a folder.

#include "fat/boot.h"
#include "fat/directory.h"
#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

std::vector<Bytes> fat_seeds() {
  std::vector<Bytes> out;
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32})
    out.push_back(script_of(*fat_volume(kind), false));
  return out;
}

void fat_boot(ByteView input) {
  Bytes sector(input.begin(), input.end());
  sector.resize(512);
  std::string fault;
  const auto g = fat::parse_boot(sector, fault);
  if (!g) {
    if (fault.empty()) broken("a boot sector is refused without a reason");
    return;
  }
  if (g->cluster_sectors == 0 || g->clusters == 0 || g->fats == 0)
    broken("a boot sector of nothing is taken");
  if (g->cluster_start(g->last_cluster()) + g->cluster_sectors > g->total_sectors)
    broken("the last cluster leaves the volume");
}

std::vector<Bytes> fat_boot_seeds() {
  std::vector<Bytes> out;
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32})
    out.push_back(fat_volume(kind)->read(0));
  return out;
}

void fat_folder(ByteView input) {
  static const CodePage pages[] = {CodePage(437), CodePage(932)};
  const std::size_t all = input.size() / 32;
  const fat::DirectoryContents c =
      fat::parse_directory(input, pages[input.empty() ? 0 : input[0] % 2], Zone());
  if (c.items.size() > all) broken("a folder has more names than entries");
  for (const fat::DirectoryItem& item : c.items) {
    if (item.name.size() > 255 || item.short_name.size() > 12 || item.index >= all)
      broken("a name that no entry can hold");
  }
}

std::vector<Bytes> fat_folder_seeds() {
  const auto disk = fat_volume(VolumeKind::fat32);
  const auto reader = open_volume(*disk, utc());
  return {disk->read(reader->info().first_cluster, 2),
          disk->read(reader->info().first_cluster + 1)};
}

}  // namespace

std::vector<Target> fat_targets() {
  return {{"fat", volume, fat_seeds},
          {"fat_boot", fat_boot, fat_boot_seeds},
          {"fat_folder", fat_folder, fat_folder_seeds}};
}

}  // namespace fuzz

#include "fat/boot.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/record.h"
#include "base/start_code.h"
#include "device/volume_fits.h"

namespace nuvrat::fat {
namespace {

bool power_of_two(std::uint32_t n) {
  return n != 0 && (n & (n - 1)) == 0;
}

// What is wrong with the fields that every FAT has; empty when nothing is.
std::string fault_of(const Boot& boot, ByteView sector) {
  const bool jump =
      (boot.BS_jmpBoot[0] == 0xEB && boot.BS_jmpBoot[2] == 0x90) || boot.BS_jmpBoot[0] == 0xE9;
  const std::uint32_t bytes = boot.BPB_BytsPerSec.value();
  if (!jump) return "it does not begin with a jump";
  if (sector[510] != 0x55 || sector[511] != 0xAA) return "it does not end in 55 AA";
  if (!power_of_two(bytes) || bytes < 512 || bytes > 4096) {
    return fmt::format("it says {} bytes a sector", bytes);
  }
  if (!power_of_two(boot.BPB_SecPerClus)) {
    return fmt::format("it says {} sectors a cluster", boot.BPB_SecPerClus);
  }
  if (boot.BPB_RsvdSecCnt.value() == 0) return "it says no reserved sectors";
  if (boot.BPB_NumFATs == 0 || boot.BPB_NumFATs > 4) {
    return fmt::format("it says {} FATs", boot.BPB_NumFATs);
  }
  if (boot.BPB_Media != 0xF0 && boot.BPB_Media < 0xF8) {
    return fmt::format("its media byte is {:02X}", boot.BPB_Media);
  }
  return "";
}

void take_tail(const BootTail& tail, Geometry& g) {
  g.dirty_flag = (tail.BS_Reserved1 & 0x03) != 0;
  if (tail.BS_BootSig == 0x29 || tail.BS_BootSig == 0x28) g.serial = tail.BS_VolID.value();
  if (tail.BS_BootSig == 0x29) g.label = tail.BS_VolLab;
}

void take_fat32(const Boot32& ext, Geometry& g) {
  const std::uint16_t flags = ext.BPB_ExtFlags.value();
  g.mirrored = (flags & 0x80) == 0;
  g.active_fat = g.mirrored ? 0 : flags & 0x0F;
  g.root_cluster = ext.BPB_RootClus.value();
  const std::uint32_t info = ext.BPB_FSInfo.value();
  const std::uint32_t backup = ext.BPB_BkBootSec.value();
  if (info > 0 && info < g.reserved_sectors) g.fs_info = info;
  if (backup > 0 && backup < g.reserved_sectors) g.backup_boot = backup;
  take_tail(ext.tail, g);
}

}  // namespace

std::uint64_t fat_bytes(const Geometry& g) {
  const std::uint64_t entries = std::uint64_t{g.clusters} + 2;
  if (g.kind == VolumeKind::fat12) return div_up<std::uint64_t>(entries * 3, 2);
  return entries * (g.kind == VolumeKind::fat16 ? 2 : 4);
}

namespace {
constexpr std::uint64_t first_of_fat16 = 4085, first_of_fat32 = 65525;
}

VolumeKind kind_for(std::uint64_t clusters) {
  if (clusters < first_of_fat16) return VolumeKind::fat12;
  return clusters < first_of_fat32 ? VolumeKind::fat16 : VolumeKind::fat32;
}

bool begins_a_fat(ByteView sector, VolumeKind kind) {
  const bool media = sector[0] == 0xF0 || sector[0] >= 0xF8;
  const bool erased =
      std::all_of(sector.begin(), sector.end(), [](std::uint8_t b) { return b == 0xFF; });
  if (!media || erased) return false;
  const auto entry = [&sector](std::size_t at) {
    return load<be::little_uint16_buf_t>(sector, at).value();
  };
  if (kind == VolumeKind::fat12) return (sector[1] & 0x8F) == 0x8F && sector[2] == 0xFF;
  if (kind == VolumeKind::fat16) return sector[1] == 0xFF && (entry(2) | 0xC000) >= 0xFFF8;
  return sector[1] == 0xFF && (entry(2) & 0x0FFF) == 0x0FFF;
}

bool is_near_limit(std::uint64_t clusters) {
  constexpr std::uint64_t near = 16;
  for (const std::uint64_t limit : {first_of_fat16, first_of_fat32}) {
    if (clusters + near > limit && clusters < limit + near) return true;
  }
  return false;
}

std::optional<Geometry> parse_boot(ByteView sector, std::string& fault) {
  const auto boot = load<Boot>(sector);
  const auto ext = load<Boot32>(sector, 36);
  fault = fault_of(boot, sector);
  if (!fault.empty()) return std::nullopt;
  Geometry g;
  g.sector_bytes = boot.BPB_BytsPerSec.value();
  g.cluster_sectors = boot.BPB_SecPerClus;
  g.reserved_sectors = boot.BPB_RsvdSecCnt.value();
  g.fats = boot.BPB_NumFATs;
  g.root_entries = boot.BPB_RootEntCnt.value();
  g.media = boot.BPB_Media;
  g.root_sectors = div_up<std::uint32_t>(g.root_entries * 32, g.sector_bytes);
  g.hidden_sectors = boot.BPB_HiddSec.value();
  const std::uint32_t total16 = boot.BPB_TotSec16.value();
  g.total_sectors = total16 != 0 ? total16 : boot.BPB_TotSec32.value();
  const std::uint32_t size16 = boot.BPB_FATSz16.value();
  g.fat_sectors = size16 != 0 ? size16 : ext.BPB_FATSz32.value();
  if (g.fat_sectors == 0 || g.data_start() >= g.total_sectors) {
    fault = fmt::format("its FATs of {} sectors leave no room for data on {} sectors",
                        g.fat_sectors, g.total_sectors);
    return std::nullopt;
  }
  const std::uint64_t clusters = (g.total_sectors - g.data_start()) / g.cluster_sectors;
  g.kind = kind_for(clusters);
  // A FAT of 32-bit entries is named by its own field; a volume below the count that the type asks
  // for is still read by every system as what its FAT size field says.
  if (size16 == 0) g.kind = VolumeKind::fat32;
  if (clusters == 0 || clusters >= 0x0FFFFFF5) {
    fault = fmt::format("it has {} clusters", clusters);
    return std::nullopt;
  }
  // Some systems count the entries on FAT32, too, others don't: they would find files elsewhere.
  if ((g.root_entries == 0) != (g.kind == VolumeKind::fat32)) {
    fault =
        fmt::format("it says a root folder of {} entries, on {}", g.root_entries, title_of(g.kind));
    return std::nullopt;
  }
  g.clusters = static_cast<std::uint32_t>(clusters);
  if (fat_bytes(g) > std::uint64_t{g.fat_sectors} * g.sector_bytes) {
    fault =
        fmt::format("its FAT of {} sectors is too small for {} clusters", g.fat_sectors, clusters);
    return std::nullopt;
  }
  if (g.kind == VolumeKind::fat32) {
    take_fat32(ext, g);
    if (!g.valid_cluster(g.root_cluster)) {
      fault = fmt::format("its root folder would begin at cluster {}", g.root_cluster);
      return std::nullopt;
    }
    if (g.active_fat >= g.fats) {
      fault = fmt::format("its active FAT would be number {} of {}", g.active_fat, g.fats);
      return std::nullopt;
    }
  } else {
    take_tail(load<BootTail>(sector, 36), g);
  }
  return g;
}

Geometry geometry_of(const Device& device, ByteView sector0) {
  std::string fault;
  const auto geometry = parse_boot(sector0, fault);
  if (!geometry) {
    throw Error(ErrorCode::damaged, "the FAT boot sector makes no sense: " + fault, {.sector = 0});
  }
  device::require_volume_fits(device, geometry->sector_bytes, geometry->total_sectors);
  return *geometry;
}

namespace {

std::array<std::uint8_t, 11> label_field(const Geometry& g) {
  if (g.label[0] != 0) return g.label;
  return {'N', 'O', ' ', 'N', 'A', 'M', 'E', ' ', ' ', ' ', ' '};
}

}  // namespace

std::uint64_t reserved_sectors_of(ByteView boot) {
  return load<Boot>(boot).BPB_RsvdSecCnt.value();
}

void set_label(ByteSpan sector, const Geometry& g) {
  const std::size_t at = g.kind == VolumeKind::fat32 ? 36 + offsetof(Boot32, tail) : 36;
  auto tail = load<BootTail>(sector, at);
  if (tail.BS_BootSig != 0x29) return;
  tail.BS_VolLab = label_field(g);
  store(tail, sector, at);
}

Bytes boot_sector(const Geometry& g) {
  const bool fat32 = g.kind == VolumeKind::fat32;
  Bytes sector(g.sector_bytes);
  Boot boot{};
  boot.BS_jmpBoot = {0xEB, static_cast<std::uint8_t>(fat32 ? 0x58 : 0x3C), 0x90};
  boot.BS_OEMName = {'N', 'U', 'V', 'R', 'A', 'T', ' ', ' '};
  boot.BPB_BytsPerSec = static_cast<std::uint16_t>(g.sector_bytes);
  boot.BPB_SecPerClus = static_cast<std::uint8_t>(g.cluster_sectors);
  boot.BPB_RsvdSecCnt = static_cast<std::uint16_t>(g.reserved_sectors);
  boot.BPB_NumFATs = static_cast<std::uint8_t>(g.fats);
  boot.BPB_RootEntCnt = static_cast<std::uint16_t>(g.root_entries);
  const bool small = !fat32 && g.total_sectors < 65536;
  boot.BPB_TotSec16 = static_cast<std::uint16_t>(small ? g.total_sectors : 0);
  boot.BPB_TotSec32 = static_cast<std::uint32_t>(small ? 0 : g.total_sectors);
  boot.BPB_Media = 0xF8;
  boot.BPB_FATSz16 = static_cast<std::uint16_t>(fat32 ? 0 : g.fat_sectors);
  boot.BPB_SecPerTrk = std::uint16_t{63};
  boot.BPB_NumHeads = std::uint16_t{255};
  boot.BPB_HiddSec = g.hidden_sectors;
  BootTail tail{};
  tail.BS_DrvNum = 0x80;
  tail.BS_BootSig = 0x29;
  tail.BS_VolID = g.serial;
  tail.BS_VolLab = label_field(g);
  const char* type = fat32 ? "FAT32   " : g.kind == VolumeKind::fat16 ? "FAT16   " : "FAT12   ";
  std::copy_n(type, 8, tail.BS_FilSysType.begin());
  store(boot, sector);
  if (fat32) {
    Boot32 ext{};
    ext.BPB_FATSz32 = g.fat_sectors;
    ext.BPB_RootClus = g.root_cluster;
    ext.BPB_FSInfo = static_cast<std::uint16_t>(g.fs_info);
    ext.BPB_BkBootSec = static_cast<std::uint16_t>(g.backup_boot);
    ext.tail = tail;
    store(ext, sector, 36);
  } else {
    store(tail, sector, 36);
  }
  const ByteView code = base::volume_start_code();
  std::copy(code.begin(), code.end(), sector.begin() + 2 + boot.BS_jmpBoot[1]);
  sector[510] = 0x55;
  sector[511] = 0xAA;
  return sector;
}

namespace {

// A hint of how many clusters are free, and of where to look for one.
Bytes info_sector(const Geometry& geometry, std::uint32_t free, std::uint32_t next) {
  FsInfo info{};
  info.FSI_LeadSig = 0x41615252u;
  info.FSI_StrucSig = 0x61417272u;
  info.FSI_Free_Count = free;
  info.FSI_Nxt_Free = next;
  info.FSI_TrailSig = 0xAA550000u;
  Bytes sector(geometry.sector_bytes);
  store(info, sector);
  return sector;
}

}  // namespace

Bytes reserved_area(const Geometry& g, std::uint64_t sectors, std::uint32_t free,
                    std::uint32_t next) {
  Bytes out(sectors * g.sector_bytes);
  if (g.kind != VolumeKind::fat32) return out;
  const Bytes info = info_sector(g, free, next);
  const auto put = [&](std::uint64_t sector, const Bytes& data) {
    if (sector > sectors) return;
    std::copy(data.begin(), data.end(),
              out.begin() + static_cast<std::ptrdiff_t>((sector - 1) * g.sector_bytes));
  };
  put(g.fs_info, info);
  put(g.backup_boot, boot_sector(g));
  put(g.backup_boot + 1, info);
  return out;
}

}  // namespace nuvrat::fat

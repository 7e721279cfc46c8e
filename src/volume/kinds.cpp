#include "volume/kinds.h"

#include <algorithm>
#include <array>
#include <string_view>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "device/given.h"
#include "fat/boot.h"
#include "fat/check.h"
#include "fat/read.h"
#include "ntfs/check.h"
#include "ntfs/read.h"

namespace nuvrat {
using namespace volume;
namespace {

struct Mark {
  std::size_t offset;
  std::string_view bytes;
  VolumeKind kind;
  const char* description;
};

constexpr std::size_t looked_at = 69632;  // 68 KiB: the last mark ends before

constexpr std::array marks = {
    Mark{3, "NTFS    ", VolumeKind::ntfs, "NTFS"},
    Mark{3, "EXFAT   ", VolumeKind::exfat, "exFAT"},
    Mark{3, std::string_view("ReFS\0\0\0\0", 8), VolumeKind::other, "ReFS"},
    Mark{1024, "\x10\x20\xF5\xF2", VolumeKind::linux_data, "F2FS"},
    Mark{3, "-FVE-FS-", VolumeKind::other, "encrypted volume (FVE)"},
    Mark{4086, "SWAPSPACE2", VolumeKind::swap, "Linux swap"},
    Mark{1080, "\x53\xEF", VolumeKind::linux_data, "Linux ext file system"},
    Mark{0, "XFSB", VolumeKind::linux_data, "XFS"},
    Mark{65600, "_BHRfS_M", VolumeKind::linux_data, "Btrfs"},
    Mark{0, "LUKS\xBA\xBE", VolumeKind::linux_data, "encrypted volume (LUKS)"},
    Mark{536, "LVM2 001", VolumeKind::linux_data, "LVM member"},
    Mark{4096, "\xFC\x4E\x2B\xA9", VolumeKind::linux_data, "RAID member"},
    Mark{0, "\xFC\x4E\x2B\xA9", VolumeKind::linux_data, "RAID member"},
    Mark{1024, "H+", VolumeKind::other, "HFS+"},
    Mark{32, "NXSB", VolumeKind::other, "APFS"},
    Mark{32769, "CD001", VolumeKind::other, "ISO 9660"},
};

VolumeSignature recognise(ByteView bytes) {
  for (const Mark& mark : marks) {
    if (mark.offset + mark.bytes.size() > bytes.size()) continue;
    const std::string_view there(reinterpret_cast<const char*>(bytes.data()) + mark.offset,
                                 mark.bytes.size());
    if (there == mark.bytes) return {mark.kind, mark.description};
  }
  if (fat::is_fat_boot(bytes)) {
    std::string fault;
    const auto geometry = fat::parse_boot(bytes, fault);
    return {geometry->kind, title_of(geometry->kind)};
  }
  return {VolumeKind::unknown, all_zero(bytes) ? "empty" : "unknown contents"};
}

}  // namespace

VolumeSignature recognise_volume(const Device& device) {
  const std::uint64_t sectors =
      std::min<std::uint64_t>(device.sectors(), looked_at / device.sector_size());
  if (sectors == 0) return {};
  try {
    return recognise(device.read(0, sectors));
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    // The first sector alone says FAT or NTFS; where it says neither the kind isn't known.
    VolumeSignature out = recognise(device.read(0));
    if (row_of(out.kind) == nullptr) throw;
    return out;
  }
}

namespace {

constexpr std::size_t hidden_at = 28;  // 32 bits

std::uint64_t little(ByteView bytes, std::size_t at, std::size_t length) {
  std::uint64_t out = 0;
  for (std::size_t i = length; i > 0; --i) out = out << 8 | bytes[at + i - 1];
  return out;
}

std::vector<std::uint64_t> no_copies(ByteView /*boot*/, const Device& /*volume*/) {
  return {};
}
// It is counted in the volume's own sectors.
std::vector<std::uint64_t> fat32_copies(ByteView boot, const Device& volume) {
  return {little(boot, 50, 2) * (little(boot, 11, 2) / volume.sector_size())};
}
// The partition's last sector, or the first one after the volume; never one of the volume's own.
std::vector<std::uint64_t> ntfs_copies(ByteView boot, const Device& volume) {
  const std::uint64_t total = little(boot, 40, 8);
  const std::uint64_t last = volume.sectors() - 1;
  if (total > last) return {};
  return total == last ? std::vector{last} : std::vector{last, total};
}

Findings check_any_fat(const Device& device, const ReadOptions& options, VolumeTotals* totals) {
  fat::Facts facts;
  Findings out = fat::check_volume(device, options, &facts);
  if (totals != nullptr) *totals = facts.totals;
  return out;
}
Findings check_any_ntfs(const Device& device, const ReadOptions& /*options*/,
                        VolumeTotals* totals) {
  return ntfs::check_volume(device, totals);
}

const std::array rows = {
    VolumeRow{VolumeKind::fat12, fat::open_reader, check_any_fat, no_copies},
    VolumeRow{VolumeKind::fat16, fat::open_reader, check_any_fat, no_copies},
    VolumeRow{VolumeKind::fat32, fat::open_reader, check_any_fat, fat32_copies},
    VolumeRow{VolumeKind::ntfs, ntfs::open_reader, check_any_ntfs, ntfs_copies, 1, true},
};

}  // namespace

namespace {

// A FAT begins a few sectors after the boot sector.
bool fat_follows(const Device& device) {
  constexpr std::uint64_t most = 64;
  for (std::uint64_t lba = 1; lba < std::min(most, device.sectors()); ++lba) {
    const auto s = device::read_if_given(device, lba);
    const auto begins = [&s](VolumeKind kind) { return fat::begins_a_fat(*s, kind); };
    if (s && (begins(VolumeKind::fat12) || begins(VolumeKind::fat16) || begins(VolumeKind::fat32)))
      return true;
  }
  return false;
}

}  // namespace

std::string volume::trace_of_volume(const Device& device) {
  const auto sector = device.sectors() > 0 ? device::read_if_given(device, 0) : std::nullopt;
  if (!sector) return "";
  const std::string_view text(reinterpret_cast<const char*>(sector->data()), sector->size());
  for (const std::size_t at : {std::size_t{54}, std::size_t{82}}) {
    if (text.substr(at, 3) == "FAT")
      return fmt::format("'{}' at byte {}", text.substr(at, text[at + 4] == ' ' ? 3 : 5), at);
  }
  for (const std::string_view name : {"NTFS", "EXFAT"}) {
    if (text.substr(3, name.size()) == name) return fmt::format("'{}' at byte 3", name);
  }
  const bool jump = (text[0] == '\xEB' && text[2] == '\x90') || text[0] == '\xE9';
  const std::string_view maker = text.substr(3, 8);
  const bool named =
      maker.find_first_not_of(' ') != maker.npos &&
      std::all_of(maker.begin(), maker.end(), [](char c) { return c >= 0x20 && c < 0x7F; });
  if (jump && named) return fmt::format("a jump, and the name '{}' of its maker", maker);
  if ((jump || named) && fat_follows(device)) return "a FAT after it";
  return "";
}

const VolumeRow* volume::row_of(VolumeKind kind) {
  const auto it = std::find_if(rows.begin(), rows.end(),
                               [kind](const VolumeRow& row) { return row.kind == kind; });
  return it == rows.end() ? nullptr : &*it;
}

const VolumeRow* volume::row_of_boot(ByteView boot) {
  return row_of(recognise(boot).kind);
}

Findings check_volume(const Device& device, const ReadOptions& options, VolumeTotals* totals) {
  const VolumeRow* row = row_of(recognise_volume(device).kind);
  return row == nullptr ? Findings{} : row->check(device, options, totals);
}

std::unique_ptr<VolumeReader> open_volume(const Device& device, const ReadOptions& options) {
  const VolumeRow* row = row_of(recognise_volume(device).kind);
  return row == nullptr ? nullptr : row->open(device, options);
}

std::optional<std::uint64_t> volume::hidden_sectors_of(ByteView boot) {
  // Until 1987 code began in the field, or right after the half of it: the jump says where.
  constexpr std::size_t first_code = 0x18;
  const bool is_jump = boot[0] == 0xEB;
  const std::size_t code = 2u + boot[1];
  if (is_jump && code >= first_code && code < hidden_at + 8) return std::nullopt;
  return little(boot, hidden_at, 4);
}

bool volume::hidden_sectors_fit(std::optional<std::uint64_t> hidden, const Partition& p) {
  return !hidden || *hidden == p.start ||
         (p.role == Role::logical && p.table_sector && *hidden == p.start - *p.table_sector);
}

void volume::set_hidden_sectors(ByteSpan boot, std::uint32_t sectors) {
  for (unsigned i = 0; i < 4; ++i)
    boot[hidden_at + i] = static_cast<std::uint8_t>(sectors >> 8 * i);
}

std::vector<std::uint64_t> volume::equal_boot_copies(const Device& volume, VolumeKind kind,
                                                     ByteView boot) {
  std::vector<std::uint64_t> out;
  const VolumeRow* row = row_of(kind);
  if (row == nullptr) return out;
  for (const std::uint64_t at : row->boot_copies(boot, volume)) {
    if (at == 0 || at >= volume.sectors()) continue;
    const Bytes there = volume.read(at);
    if (std::equal(there.begin(), there.end(), boot.begin(), boot.end())) out.push_back(at);
  }
  return out;
}

}  // namespace nuvrat

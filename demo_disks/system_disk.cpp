#include "system_disk.h"

#include <fmt/core.h>

#include "disk_bytes.h"
#include "orrelune.h"

namespace orrelune {
namespace {

using namespace nuvrat;

constexpr std::uint64_t mib_bytes = 1u << 20;
Bytes bytes_of_text(const std::string& text) {
  return {text.begin(), text.end()};
}

// A program for nobody: only its header says for which machine.
Bytes program(std::uint16_t machine, const std::string& text) {
  Bytes out = bytes_of_text("MZ");
  out.resize(0x80);
  out[0x3C] = 0x80;
  for (const char c : {'P', 'E', '\0', '\0'}) out.push_back(static_cast<std::uint8_t>(c));
  out.push_back(static_cast<std::uint8_t>(machine));
  out.push_back(static_cast<std::uint8_t>(machine >> 8));
  out.resize(0x200);
  out.insert(out.end(), text.begin(), text.end());
  return out;
}

// A log beside a hive that holds nothing newer.
Bytes old_log(const Bytes& hive) {
  return {hive.begin(), hive.begin() + 512};
}

class Volume {
 public:
  Volume(Device& device, const Partition& p, const std::string& label, std::uint32_t serial)
      : window_(device, p.range()), writer_(window_, format_of(device, p, label, serial)) {}

  void folder(const std::string& path) { writer_.add_directory(path, info()); }
  void file(const std::string& path, ByteView contents) {
    writer_.add_file(path, contents, info());
  }
  FatWriter& writer() { return writer_; }

 private:
  static FatFormat format_of(const Device& device, const Partition& p, const std::string& label,
                             std::uint32_t serial) {
    FatFormat out;
    const std::uint64_t bytes = p.sectors * device.sector_size();
    out.kind = bytes < 250 * mib_bytes ? VolumeKind::fat16 : VolumeKind::fat32;
    out.cluster_sectors = (bytes < 30 * mib_bytes && device.sector_size() == 512 ? 1024u : 4096u) /
                          device.sector_size();
    out.label = label;
    out.serial = serial;
    out.hidden_sectors = p.start;
    align_data(out, p.sectors, device.sector_size(), true);
    return out;
  }
  FatFileInfo info() {
    FatFileInfo out;
    out.modified = parse_time("2030-03-04T05:06:08Z") + 2 * ticks_per_second * made_++;
    out.created = out.accessed = out.modified;
    return out;
  }

  WritableWindow window_;
  FatWriter writer_;
  Ticks made_ = 0;
};

void add_boot_files(Volume& v, const Bytes& store, const SystemDisk& plan) {
  v.folder("Boot");
  v.folder("Boot/en-US");
  if (plan.store) {
    v.file("Boot/BCD", store);
    v.file("Boot/BCD.LOG1", old_log(store));
  }
  v.file("Boot/en-US/bootmgr.exe.mui", bytes_of_text("words of the stand-in"));
  v.file("bootmgr", legacy_stand_in());
  if (plan.other_files)
    v.file("readme of the keeper.txt", bytes_of_text("spare key: under the gauge"));
}

void add_system(Volume& v, const Bytes& hive, Random& random) {
  for (const char* folder :
       {"Windows", "Windows/System32", "Windows/System32/config", "Windows/Boot",
        "Windows/Boot/EFI", "Windows/Boot/EFI/en-US", "Windows/Boot/Fonts",
        "Windows/Boot/Resources", "Windows/Boot/Resources/en-US", "Windows/Boot/PCAT",
        "Windows/Boot/PCAT/en-US", "Users", "Users/Keeper"})
    v.folder(folder);
  v.file("Windows/System32/winload.exe", program(0x8664, "loader, legacy"));
  v.file("Windows/System32/winload.efi", program(0x8664, "loader, UEFI"));
  v.file("Windows/System32/config/SYSTEM", hive);
  v.file("Windows/System32/config/SYSTEM.LOG1", old_log(hive));
  v.file("Windows/System32/config/SYSTEM.LOG2", {});
  v.file("Windows/System32/config/BCD-Template", make_hive(store_template()));
  v.file("Windows/Boot/EFI/bootmgfw.efi", uefi_stand_in());
  v.file("Windows/Boot/EFI/memtest.efi", program(0x8664, "memory test"));
  v.file("Windows/Boot/EFI/en-US/bootmgfw.efi.mui", bytes_of_text("words of the stand-in"));
  v.file("Windows/Boot/Fonts/tide_mono.ttf", bytes_of_text("letters of the stand-in"));
  v.file("Windows/Boot/Resources/bootres.dll", program(0x8664, "pictures"));
  v.file("Windows/Boot/Resources/en-US/bootres.dll.mui", bytes_of_text("words of the pictures"));
  v.file("Windows/Boot/PCAT/bootmgr", legacy_stand_in());
  v.file("Windows/Boot/PCAT/memtest.exe", program(0x014C, "memory test"));
  v.file("Windows/Boot/PCAT/en-US/bootmgr.exe.mui", bytes_of_text("words of the stand-in"));
  fill_volume(v.writer(), random, 24);
}

void fill_recovery(Device& device, const Partition& p) {
  Volume v(device, p, "RECOVERY", 0x0B001003);
  v.folder("Recovery");
  v.file("Recovery/rebuild.wim", Bytes(300000, 0x52));
  v.writer().finish();
}

// The volume's parameters stay; its boot area holds code that loads \bootmgr.
void put_boot_code(Device& device, const Partition& p) {
  constexpr std::size_t parameters = 0x54, area = 8192;
  const ByteView code = boot_area_code();
  const std::uint64_t sectors = area / device.sector_size();
  Bytes bytes = device.read(p.start, sectors);
  std::copy(code.begin() + parameters, code.end(), bytes.begin() + parameters);
  device.write(p.start, bytes);
  bytes.resize(device.sector_size());
  device.write(p.range().last(), bytes);
}

}  // namespace

std::uint64_t system_disk_sectors(const SystemDisk& plan, std::uint32_t sector_size) {
  return (1 + plan.boot + plan.system + plan.second + plan.gap + plan.recovery + plan.behind) *
         mib_bytes / sector_size;
}

void make_system_disk(Device& device, const SystemDisk& plan, std::uint64_t seed) {
  Random random(seed);
  const std::uint64_t mebi = mib_bytes / device.sector_size();
  Layout layout = disk_bytes::mbr(device.sectors(), device.sector_size(), system_disk_signature);
  const auto add = [&](std::uint64_t start, std::uint64_t size, std::uint8_t type) {
    Partition& p = disk_bytes::add(layout, Role::primary, {start * mebi, size * mebi}, type);
    p.active = p.number == 1;
  };
  const bool apart = plan.boot > 0;
  if (apart) add(1, plan.boot, 0x07);
  add(1 + plan.boot, plan.system, 0x07);
  const std::uint64_t systems_end = 1 + plan.boot + plan.system + plan.second;
  if (plan.second > 0) add(systems_end - plan.second, plan.second, 0x07);
  add(systems_end + plan.gap, plan.recovery, 0x27);
  write_new_table(device, layout);
  std::vector<std::uint64_t> offsets;
  for (const Partition& p : layout.partitions) offsets.push_back(p.start * device.sector_size());
  if (!apart) offsets.insert(offsets.begin(), offsets[0]);
  const Bytes store = make_hive(boot_store(offsets[0], offsets[1], plan.second > 0 ? offsets[2] : 0,
                                           plan.repair ? offsets.back() : 0));
  const Partition* p = layout.partitions.data();
  if (apart) {
    Volume v(device, *p++, "START", 0x0B001001);
    add_boot_files(v, store, plan);
    v.writer().finish();
  }
  Volume system(device, *p, "STATION", 0x0B001000 + p->number);
  if (!apart) add_boot_files(system, store, plan);
  add_system(system, make_hive(system_hive(offsets)), random);
  if (plan.repair) {
    system.folder("Windows/System32/Recovery");
    system.file("Windows/System32/Recovery/ReAgent.xml", bytes_of_text("<settings/>"));
  }
  system.writer().finish();
  if (plan.second > 0) {
    ++p;
    Volume second(device, *p, "ARCHIVE", 0x0B001000 + p->number);
    add_system(second, make_hive(system_hive({offsets[0], offsets[2], offsets[1], offsets[3]})),
               random);
    second.writer().finish();
  }
  fill_recovery(device, layout.partitions.back());
  std::string goals;
  for (const Partition& q : layout.partitions)
    goals += fmt::format("{}p{}=ntfs", goals.empty() ? "" : " ", q.number);
  play(device, goals, seed);
  write_new_table(device, layout);  // types as they were, whatever the volumes became
  Bytes first = device.read(0);
  std::copy(mbr_start().begin(), mbr_start().end(), first.begin());
  device.write(0, first);
  put_boot_code(device, layout.partitions[0]);
  if (apart) put_boot_code(device, layout.partitions[1]);
}

}  // namespace orrelune

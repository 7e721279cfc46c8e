#include "device/system_disks.h"

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>

#include "base/descriptor.h"
#include "device/in_use.h"

namespace nuvrat {
using namespace device;
namespace {

namespace fs = std::filesystem;

std::uint64_t number_in(const fs::path& file) {
  const std::string text = first_line(file);
  std::uint64_t out = 0;
  (void)std::from_chars(text.data(), text.data() + text.size(), out);
  return out;
}

bool is_there(const fs::path& path) {
  std::error_code error;
  return fs::exists(path, error);
}

// By the way through the machine on which the system found it.
std::string bus_of(const fs::path& block, const std::string& name) {
  if (is_there(block / "loop")) return "image";
  if (is_there(block / "dm") || is_there(block / "md")) return "layer";
  std::error_code error;
  const std::string way = fs::canonical(block, error).string();
  const auto has = [&way](std::string_view part) { return way.find(part) != way.npos; };
  if (has("/usb")) return "USB";
  if (has("/nvme")) return "NVMe";
  if (has("/mmc")) return "SD";
  if (has("/ata")) return "SATA";
  if (has("/virtio") || name.starts_with("vd") || name.starts_with("xvd")) return "virtual";
  if (has("/nbd")) return "network";
  if (has("/host")) return "SCSI";
  return "";
}

// Memory that looks like a disk, and loop devices with nothing behind them.
bool is_no_disk(const fs::path& block, const std::string& name) {
  if (name.starts_with("ram") || name.starts_with("zram")) return true;
  if (name.starts_with("nbd")) return number_in(block / "size") == 0;
  return name.starts_with("loop") && !is_there(block / "loop/backing_file");
}

// The serial number as a disk's page of vital data has it: four bytes, then letters and digits.
std::string serial_page(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  std::string text{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
  if (text.size() < 4) return "";
  text.erase(0, 4);
  std::erase_if(text, [](char c) { return c <= ' ' || c > '~'; });
  return text;
}

}  // namespace

std::string device::model_in(const fs::path& block) {
  const std::string vendor = first_line(block / "device/vendor");
  const std::string model = first_line(block / "device/model");
  // A virtual bus has a number there, and the ATA layer only its own name.
  const bool says_nothing = vendor.empty() || vendor == "ATA" || vendor.starts_with("0x");
  return says_nothing || model.empty() ? model : vendor + " " + model;
}

std::string device::serial_in(const fs::path& block) {
  for (const char* file : {"device/serial", "serial"}) {
    if (std::string serial = first_line(block / file); !serial.empty()) return serial;
  }
  return serial_page(block / "device/vpd_pg80");
}

std::vector<MachineDisk> device::system_disks(const fs::path& blocks) {
  std::vector<MachineDisk> out;
  for (const fs::path& block : base::entries_of(blocks)) {
    std::string name = block.filename();
    if (is_no_disk(block, name)) continue;
    MachineDisk disk;
    disk.bus = bus_of(block, name);
    std::replace(name.begin(), name.end(), '!', '/');
    disk.path = "/dev/" + name;
    disk.bytes =
        number_in(block / "size") * 512;  // the system counts in 512, whatever the disk does
    if (const auto size = number_in(block / "queue/logical_block_size"); size != 0)
      disk.sector_size = static_cast<std::uint32_t>(size);
    disk.physical_sector_size =
        static_cast<std::uint32_t>(number_in(block / "queue/physical_block_size"));
    disk.model = model_in(block);
    disk.serial = serial_in(block);
    disk.image = first_line(block / "loop/backing_file");
    disk.removable = number_in(block / "removable") != 0;
    disk.read_only = number_in(block / "ro") != 0;
    out.push_back(std::move(disk));
  }
  // "sda" before "sdb" before "sdaa", "loop2" before "loop10".
  std::sort(out.begin(), out.end(), [](const MachineDisk& a, const MachineDisk& b) {
    const auto key = [](const std::string& path) {
      const std::size_t digits = path.find_last_not_of("0123456789") + 1;
      const std::string number = path.substr(digits);
      return std::tuple(path.substr(0, std::min<std::size_t>(digits, 7)), digits, number.size(),
                        path);
    };
    return key(a.path) < key(b.path);
  });
  return out;
}

}  // namespace nuvrat

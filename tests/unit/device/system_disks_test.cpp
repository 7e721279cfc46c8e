// The machine's disks, out of a made-up tree of the system's files.

#include "device/system_disks.h"

#include <filesystem>
#include <fstream>

#include "support.h"

using namespace nuvrat;
namespace fs = std::filesystem;

TEST_CASE("machine: disks by what the system's files say") {
  const support::Folder folder;
  const auto put = [&folder](const std::string& path, const std::string& text) {
    const fs::path file = folder.path() / path;
    fs::create_directories(file.parent_path());
    std::ofstream(file) << text;
  };
  const auto disk = [&](const std::string& way, const std::string& name, const std::string& size) {
    put(way + "/size", size);
    put(way + "/ro", "0");
    fs::create_directories(folder / "block");
    fs::create_directory_symlink(folder.path() / way, (folder / "block") / name);
  };
  disk("pci/ata1/host0/block/sda", "sda", "3907029168");
  put("pci/ata1/host0/block/sda/device/vendor", "ATA     ");
  put("pci/ata1/host0/block/sda/device/model", "Tidewater 2000 ");
  put("pci/ata1/host0/block/sda/device/vpd_pg80", std::string("\0\x80\0\x08 TW-0042", 12));
  put("pci/ata1/host0/block/sda/queue/logical_block_size", "512");
  put("pci/ata1/host0/block/sda/queue/physical_block_size", "4096");
  disk("pci/usb2/host3/block/sdb", "sdb", "0");
  put("pci/usb2/host3/block/sdb/removable", "1");
  put("pci/usb2/host3/block/sdb/device/vendor", "Cardhouse");
  put("pci/usb2/host3/block/sdb/device/model", "Reader");
  disk("pci/nvme/nvme0/nvme0n1", "nvme0n1", "1000");
  put("pci/nvme/nvme0/nvme0n1/device/serial", "N-7");
  put("pci/nvme/nvme0/nvme0n1/queue/logical_block_size", "4096");
  disk("virtual/loop2", "loop2", "64");
  put("virtual/loop2/loop/backing_file", "/images/a.img");
  put("virtual/loop2/ro", "1");
  disk("virtual/loop10", "loop10", "64");
  put("virtual/loop10/loop/backing_file", "/images/b.img");
  disk("virtual/loop3", "loop3", "0");
  disk("virtual/zram0", "zram0", "64");
  disk("virtual/dm-0", "dm-0", "64");
  put("virtual/dm-0/dm/name", "vault");
  const std::vector<MachineDisk> all = device::system_disks(folder / "block");
  std::string names;
  for (const MachineDisk& d : all) names += d.path + " " + d.bus + "; ";
  CHECK(names ==
        "/dev/dm-0 layer; /dev/loop2 image; /dev/loop10 image; /dev/nvme0n1 NVMe; /dev/sda SATA; "
        "/dev/sdb USB; ");
  const auto at = [&all](const std::string& path) {
    for (const MachineDisk& d : all) {
      if (d.path == path) return d;
    }
    return MachineDisk{};
  };
  CHECK(at("/dev/sda").bytes == std::uint64_t{3907029168} * 512);
  CHECK(at("/dev/sda").model == "Tidewater 2000");
  CHECK(at("/dev/sda").serial == "TW-0042");
  CHECK(at("/dev/sda").physical_sector_size == 4096);
  CHECK(at("/dev/sdb").bytes == 0);
  CHECK(at("/dev/sdb").removable);
  CHECK(at("/dev/sdb").model == "Cardhouse Reader");
  CHECK(at("/dev/nvme0n1").sector_size == 4096);
  CHECK(at("/dev/nvme0n1").bytes == 512000);
  CHECK(at("/dev/nvme0n1").serial == "N-7");
  CHECK(at("/dev/loop2").image == "/images/a.img");
  CHECK(at("/dev/loop2").read_only);
  // In words: no medium, and nothing said of a table that wasn't looked at.
  const std::string text = machine_text(all, {});
  CHECK(text.find("this machine shows 6 disks") == 0);
  CHECK(text.find("no medium  USB") != std::string::npos);
  CHECK(device::system_disks(folder / "nothing").empty());
}

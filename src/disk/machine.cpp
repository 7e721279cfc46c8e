#include <sys/stat.h>

#include <nuvrat/error.h>
#include <nuvrat/machine.h>
#include <nuvrat/open.h>
#include <nuvrat/survey.h>

#include "device/in_use.h"
#include "device/system_disks.h"

namespace nuvrat {
namespace {

void look_at(MachineDisk& disk) {
  struct stat info {};
  if (::stat(disk.path.c_str(), &info) == 0) disk.uses = device::uses_of(info);
  if (disk.bytes == 0) return;
  try {
    const auto device = open_device(disk.path);
    const TableReading table = read_table(*device);
    disk.table = table.layout.kind;
    disk.tag = disk_tag(*device, table);
  } catch (const Error& e) {
    disk.fault = e.message();
  }
}

}  // namespace

std::vector<MachineDisk> machine_disks() {
  std::vector<MachineDisk> out = device::system_disks("/sys/block");
  for (MachineDisk& disk : out) look_at(disk);
  return out;
}

}  // namespace nuvrat

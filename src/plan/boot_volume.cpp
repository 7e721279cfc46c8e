#include "plan/boot_volume.h"

#include <algorithm>
#include <set>

#include <nuvrat/error.h>

#include "base/ascii.h"
#include "boot/hive.h"

namespace nuvrat::plan {
namespace {

bool only_these(volume::PathReader& files, const std::string& folder,
                const std::set<std::string>& known) {
  const std::vector<volume::PathEntry> there = files.list(folder);
  return std::all_of(there.begin(), there.end(), [&known](const volume::PathEntry& e) {
    const bool of_format = e.name.starts_with("$") || e.name == ".";
    return of_format || known.count(base::ascii_lower(e.name)) != 0;
  });
}

}  // namespace

bool only_boot_files(volume::PathReader& files, StartWay way) {
  if (way == StartWay::uefi)
    return only_these(files, "", {"efi", "system volume information"}) &&
           only_these(files, "EFI", {"boot", "microsoft"});
  return only_these(files, "",
                    {"boot", "bootmgr", "bootnxt", "bootsect.bak", "system volume information",
                     "$recycle.bin", "recovery", "bootstat.dat", "boottel.dat"});
}

FoundHive open_hive(volume::PathReader& files, const std::string& path, std::uint64_t most) {
  try {
    boot::HiveFile hive = boot::read_hive(files, path, most);
    if (const auto fault = boot::hive_fault(hive.file, hive.logs)) return {{}, *fault};
    return {std::move(hive.file), ""};
  } catch (const Error& e) {
    if (e.code() == ErrorCode::device_read) throw;
    return {{}, e.message()};
  }
}

}  // namespace nuvrat::plan

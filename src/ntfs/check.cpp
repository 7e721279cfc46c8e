#include "ntfs/check.h"

#include <algorithm>

#include "base/record.h"
#include "ntfs/check_state.h"
#include "ntfs/mirror.h"

namespace nuvrat::ntfs {

void check_boot(CheckState& state) {
  const Device& device = state.volume.device();
  const Geometry& g = state.volume.geometry();
  const Bytes sector = device.read(0);
  const auto boot = load<Boot>(sector);
  const bool zero = boot.reserved_sectors.value() == 0 && boot.fats == 0 &&
                    boot.root_entries.value() == 0 && boot.sectors16.value() == 0 &&
                    boot.sectors_per_fat.value() == 0 && boot.sectors32.value() == 0;
  if (!zero || boot.media != 0xF8) {
    state.log.add(Rule::ntfs_boot_fields, Severity::warning, {.sector = 0},
                  "fields of the boot sector that NTFS leaves zero, or the media byte, hold "
                  "something else");
  }
  if (boot.jump != std::array<std::uint8_t, 3>{0xEB, 0x52, 0x90} ||
      boot.drive.value() != 0x00800080) {
    state.log.add(Rule::ntfs_boot_fields, Severity::warning, {.sector = 0},
                  "the boot sector doesn't begin with EB 52 90, or holds no 80 00 80 00 at 24h");
  }
  const std::uint64_t copy = g.total_sectors * (g.sector_bytes / device.sector_size());
  if (copy >= device.sectors()) {
    state.log.add(Rule::ntfs_boot_copy, Severity::warning, {.sector = copy},
                  "the volume fills its place to the last sector, where the second boot sector "
                  "must be");
    return;
  }
  // It is in the partition's last sector; a volume that ends earlier has it after its end.
  const std::uint64_t last = device.sectors() - 1;
  const Bytes there = device.read(last);
  if (device.read(copy) == sector || there == sector) return;
  const bool decided = merged_boot_copy(sector, there) != there;
  state.log.add(Rule::ntfs_boot_copy, Severity::warning, {.sector = last},
                decided ? "the second boot sector is not the same as the first"
                        : "the second boot sector is not the same as the first, in its serial "
                          "number or its code; nothing on the volume says which is right: both "
                          "stay as they are",
                decided);
}

Findings check_volume(const Device& device, VolumeTotals* totals) {
  CheckState state(device);
  check_boot(state);
  note_stand_ins(state.volume, state.log);
  check_start(state);
  const auto upcase = state.system_file(record_upcase);
  if (const AttributeView* data = find_attribute(upcase, at_data);
      data != nullptr && data->bytes() == 131072)
    state.upcase = UpCase(state.volume.read_all(*data, 131072));
  check_records(state);
  check_system_files(state);
  check_security(state);
  check_folders(state);
  check_clusters(state);
  if (totals != nullptr) *totals = state.totals;
  return state.log.take();
}

}  // namespace nuvrat::ntfs

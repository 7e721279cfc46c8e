// Whether a system still boots from the disk as it is planned.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/volume_traits.h"
#include "boot/systems.h"
#include "plan/boot.h"
#include "volume/paths.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

constexpr Machine machines[] = {Machine::x86, Machine::x86_64, Machine::arm64};

// It becomes FAT or NTFS, and gets the boot sector of that.
bool another_kind(const goals::Asked& asked, unsigned number) {
  return asked.find<KindGoal>(number) != nullptr;
}

// Entries that firmware keeps itself name the EFI system partition by its number, its GUID and
// where it begins.
PlanPart tell_firmware(const PlanInput& in, const Systems& before) {
  PlanPart out;
  for (const BootFiles& b : before.boot_files) {
    if (!b.in_force || b.way != BootWay::uefi) continue;
    const Partition* was = in.before.find(b.number);
    const SurveyedPartition* now = in.state.find(b.partition);
    if (was == nullptr || now == nullptr) continue;
    const Partition& is = now->partition;
    if (was->start == is.start && was->sectors == is.sectors && was->number == is.number &&
        was->unique_id == is.unique_id)
      continue;
    const Window window(in.device, is.range());
    const auto files = volume::open_paths(window, in.options);
    const bool removable =
        files != nullptr &&
        std::any_of(std::begin(machines), std::end(machines),
                    [&files](Machine m) { return files->find(paths::removable(m)).has_value(); });
    out.consent(
        ConsentCode::firmware_entries, b.partition,
        "the firmware's own boot entry may no longer find it",
        removable ? "Then choose the disk itself in the firmware's menu: it boots by 'EFI/BOOT'"
                  : "'EFI/BOOT' holds no program either that firmware could boot without an entry");
  }
  return out;
}

}  // namespace

bool may_boot(const disk::DiskState& state) {
  return !state.systems.nothing() ||
         std::any_of(state.volumes.begin(), state.volumes.end(), [](const SurveyedPartition& s) {
           const TypeClass type = class_of(s.partition.type);
           return s.partition.active || type == TypeClass::efi_system ||
                  type == TypeClass::bios_boot ||
                  (s.partition.role != Role::extended && !format_of(s.signature.kind));
         });
}

PlanPart tell_other_table(const disk::DiskState& before, const Layout& after,
                          std::optional<BootWay> way) {
  PlanPart out;
  if (after.kind == before.table.layout.kind || !may_boot(before)) return out;
  const auto& all = after.partitions;
  if (after.kind == TableKind::gpt) {
    const bool efi = std::any_of(all.begin(), all.end(), [](const Partition& p) {
      return class_of(p.type) == TypeClass::efi_system;
    });
    out.consent(ConsentCode::firmware, PartitionId::none,
                way   ? "legacy firmware can't boot the disk any more"
                : efi ? "only UEFI can boot the disk then"
                      : "nothing boots from the disk then: it has no EFI system partition",
                efi ? "" : "Legacy firmware boots from an MBR only");
    return out;
  }
  const auto active =
      std::find_if(all.begin(), all.end(), [](const Partition& p) { return p.active; });
  out.consent(ConsentCode::firmware, PartitionId::none,
              "only legacy firmware can boot the disk then",
              active == all.end() ? std::string("No partition is active: one must be first")
                                  : "From " + part_name(active->number) + ", which is active");
  return out;
}

PlanPart check_systems_stay(const disk::DiskState& before, const goals::Asked& asked) {
  PlanPart out;
  for (const SystemVolume& v : before.systems.systems) {
    const auto* goal = asked.find<KindGoal>(v.number);
    if (goal == nullptr || base::traits_of(goal->kind).carries_system ||
        !base::traits_of(before.find(v.number)->signature.kind).carries_system)
      continue;
    const auto& files = before.systems.boot_files;
    const bool started = std::any_of(files.begin(), files.end(), [&v](const BootFiles& b) {
      return b.in_force && b.missing.empty() && b.system == v.number;
    });
    if (started) {
      out.obstacle(
          ObstacleCode::boots_from,
          fmt::format("this disk boots the system on p{}, and that runs from NTFS only", v.number),
          "To hand its files on, make a second volume, such as g1=fat32, and copy them there", 0,
          v.number);
    } else {
      out.consent(ConsentCode::system, v.partition,
                  "its system can't boot afterwards: it runs from NTFS only");
    }
  }
  return out;
}

PlanPart check_boots(const PlanInput& in, const Systems& before, const goals::Asked& asked) {
  PlanPart out;
  const auto* goal = asked.find<BootGoal>();
  const std::optional<BootWay> way = goal != nullptr ? goal->way : before.boots_by();
  if (!way) return out;
  const TableReading table = read_table(in.device);
  std::vector<Partition> readable;
  for (const SurveyedPartition& s : in.state.volumes) {
    if (s.volume && s.partition.number != 0) readable.push_back(s.partition);
  }
  const Systems now = boot::find_systems(in.device, table, readable, in.options);
  if (now.boots_by() == way) {
    if (way == BootWay::uefi && before.boots_by() == way) return tell_firmware(in, before);
    return out;
  }
  std::string why = "no boot files are where it looks";
  bool other_first = false;
  for (const BootFiles& b : now.boot_files) {
    if (!b.in_force || b.way != *way) continue;
    why = b.missing;
    other_first = b.store && b.fault.empty() && b.system == 0;
  }
  const char* firmware = firmware_words(*way);
  if (goal != nullptr && other_first) {
    out.consent(ConsentCode::store_first, PartitionId::none,
                "the boot store may boot a system of another disk first",
                fmt::format("{} finds the boot store, and {}. Choose in its menu, or let a system "
                            "set it",
                            firmware, why));
    return out;
  }
  if (goal != nullptr) {
    out.obstacle(ObstacleCode::boot_way,
                 fmt::format("{} would not find the system afterwards: {}", firmware, why),
                 "Let the system's own repair mend its boot files, with this disk as it is, then "
                 "ask again");
    return out;
  }
  for (const BootFiles& b : before.boot_files) {
    if (b.in_force && b.missing.empty() && another_kind(asked, b.number))
      why = fmt::format("the boot sector of p{} is not carried over", b.number);
  }
  out.consent(
      ConsentCode::start, PartitionId::none, "the disk may not boot afterwards",
      fmt::format("{} boots the system on it now, as far as can be seen. Then {}", firmware, why));
  return out;
}

}  // namespace nuvrat::plan

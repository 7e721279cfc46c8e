// Whether a system still boots from the disk as it is planned.

#include <algorithm>

#include <fmt/core.h>

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
        ConsentCode::firmware_entries,
        fmt::format("if firmware keeps entries of its own for p{}, they name it as it was, "
                    "and may not find it {}",
                    b.number,
                    removable ? "afterwards: then choose the disk itself in its menu, which "
                                "starts 'EFI/BOOT'"
                              : "afterwards; 'EFI/BOOT' has no program either, by which firmware "
                                "could start the disk without an entry"));
  }
  return out;
}

}  // namespace

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
          ObstacleCode::starts_from,
          fmt::format("the system that this disk starts is on p{}, and runs from NTFS only",
                      v.number),
          "Nothing does while it is to start. To hand its files on, have another volume made, "
          "such as g1=fat32, and copy them there",
          0, v.number);
    } else {
      out.consent(ConsentCode::system,
                  fmt::format("a system is on p{}, and runs from NTFS only: it can't be "
                              "started afterwards",
                              v.number));
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
    out.consent(ConsentCode::store_first,
                fmt::format("{} finds the boot store, but what that starts first may not be on "
                            "this disk: {}; choose in its menu, or let a system set it",
                            firmware, why));
    return out;
  }
  if (goal != nullptr) {
    out.obstacle(ObstacleCode::boot_way,
                 fmt::format("{} would not find the system afterwards: {}", firmware, why),
                 "Let the system's own repair put its start right, with this disk as it is, then "
                 "ask again");
    return out;
  }
  for (const BootFiles& b : before.boot_files) {
    if (b.in_force && b.missing.empty() && another_kind(asked, b.number))
      why = fmt::format("the boot sector of p{} is not carried over", b.number);
  }
  // Nothing matters more: it is said before everything else.
  const auto& consents = in.planned.consents;
  const auto said = std::find_if(consents.begin(), consents.end(),
                                 [](const Consent& c) { return c.code == ConsentCode::firmware; });
  if (said != consents.end())
    out.foremost.push_back(*said);
  else
    out.foremost.push_back(
        {ConsentCode::start,
         fmt::format("{} starts the system on this disk now, as far as can be seen, and "
                     "may not afterwards: {}",
                     firmware, why)});
  return out;
}

}  // namespace nuvrat::plan

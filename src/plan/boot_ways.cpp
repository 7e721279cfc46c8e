// boot=uefi, boot=legacy: what else must be done for it.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/volume_traits.h"
#include "boot/systems.h"
#include "plan/boot.h"
#include "plan/boot_volume.h"
#include "plan/volume.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

constexpr std::uint64_t mib_bytes = 1u << 20;
constexpr std::uint64_t usual_efi_bytes = 260 * mib_bytes;
constexpr std::uint64_t small_efi_bytes = 100 * mib_bytes;
// FAT32 needs 65,525 clusters; firmware reads it everywhere.
constexpr std::uint64_t least_efi_bytes = 36 * mib_bytes;

std::string words_of_way(BootWay way) {
  return way == BootWay::uefi ? "UEFI" : "legacy";
}

class WayFinder {
 public:
  WayFinder(const PlanInput& in, const goals::Asked& asked, BootWay way)
      : in_(in), asked_(asked), way_(way), layout_(in.state.table.layout) {}

  Ways find() {
    std::vector<Way> ways = find_ways();
    return {std::move(ways), std::move(out_)};
  }

 private:
  std::vector<Way> find_ways() {
    const Systems& systems = in_.state.systems;
    if (systems.systems.empty()) {
      obstacle(ObstacleCode::no_system, "no system that firmware could boot was found on the disk",
               "A system is known by its folders; one that is encrypted, or of another kind, isn't "
               "seen. Leave that goal out to change the table alone");
      return {};
    }
    const auto* table = asked_.find<TableGoal>();
    const TableKind kind = table == nullptr ? layout_.kind : table->kind;
    const TableKind needed = way_ == BootWay::uefi ? TableKind::gpt : TableKind::mbr;
    if (kind != needed) {
      out_.obstacle(ObstacleCode::boot_table,
                    fmt::format("{} boot needs {}", words_of_way(way_),
                                needed == TableKind::gpt ? "a GPT" : "an MBR"),
                    fmt::format("Add table={}", name_of(needed)));
      out_.obstacles.back().goals = {TableGoal{needed}, BootGoal{way_}};
      return {};
    }
    if (is_done() || !has_loaders()) return {};
    switch (way_) {
      case BootWay::uefi:
        return to_uefi();
      case BootWay::legacy:
        return to_legacy();
    }
    return {};
  }

  void obstacle(ObstacleCode code, std::string text, std::string remedy, unsigned partition = 0) {
    out_.obstacle(code, std::move(text), std::move(remedy), 0, partition);
  }

  bool is_done() {
    const auto* table = asked_.find<TableGoal>();
    const bool other = table != nullptr && table->kind != layout_.kind;
    if (other || in_.state.systems.boots_by() != way_ || asked_.find<EspGoal>() != nullptr)
      return false;
    obstacle(ObstacleCode::already,
             fmt::format("the disk boots by {} firmware already, as far as can be seen",
                         words_of_way(way_)),
             "Nothing needs to be done");
    return true;
  }

  bool has_loaders() {
    for (const SystemVolume& s : in_.state.systems.systems) {
      const bool has = way_ == BootWay::uefi ? s.uefi_loader : s.legacy_loader;
      const char* loader = way_ == BootWay::uefi ? paths::loader_uefi : paths::loader_legacy;
      if (!has) {
        obstacle(ObstacleCode::boot_piece,
                 fmt::format("the system on p{} has no '{}', which {} boot needs", s.number, loader,
                             words_of_way(way_)),
                 "The system can't boot that way: only its maker's installer can change that",
                 s.number);
      }
      if (way_ == BootWay::uefi && s.machine == Machine::unknown)
        obstacle(ObstacleCode::boot_piece,
                 fmt::format("the loader of the system on p{} doesn't say for which machine it is",
                             s.number),
                 "Check the system's files", s.number);
    }
    if (out_.in_reach() && way_ == BootWay::uefi && first().machine == Machine::x86)
      out_.consent(ConsentCode::boot_32, first().partition,
                   "its system has 32 bits: only UEFI firmware of 32 bits boots it",
                   "Most machines with UEFI have firmware of 64 bits");
    return out_.in_reach();
  }

  [[nodiscard]] const SystemVolume& first() const { return in_.state.systems.systems.front(); }

  [[nodiscard]] Way base() const { return {asked_, {.way = way_}}; }

  std::vector<Way> to_uefi() {
    for (const SurveyedPartition& s : in_.state.volumes) {
      if (!is_efi_volume(s) || asked_.is_gone(s.partition.number)) continue;
      if (const auto* esp = asked_.find<EspGoal>())
        obstacle(ObstacleCode::esp_there,
                 fmt::format("p{} is an EFI system partition already", s.partition.number),
                 fmt::format("Leave esp={} out", format_bytes(esp->bytes)), s.partition.number);
      Way there = base();
      there.boot.efi = s.partition.id;
      return {end_made_room(there)};
    }
    const std::vector<std::uint64_t> lengths = efi_lengths();
    // `least`: what an EFI system partition must have at least.
    const auto with_efi = [&](std::uint64_t least) {
      Way way = base();
      way.boot.make_efi = NewEfi{.bytes = lengths.front(), .least = least};
      return way;
    };
    std::vector<Way> out{end_made_room(with_efi(lengths[lengths.size() > 1 ? 1 : 0]))};
    for (const unsigned old : old_boot_partitions()) {
      Way in_its_place = with_efi(lengths.back());
      in_its_place.asked.add(GoneGoal{old});
      out.push_back(end_made_room(in_its_place));
    }
    for (const unsigned number : could_be_shorter()) {
      for (const std::uint64_t bytes : lengths) {
        // A MiB more: the gap begins at a whole one.
        const std::uint64_t room = bytes + mib_bytes;
        if (in_.state.find(number)->volume->free_bytes < room) continue;
        Way shorter = with_efi(bytes);
        shorter.asked.add(
            SizeGoal{.partition = number, .kind = SizeGoal::Kind::less, .bytes = room});
        out.push_back(end_made_room(shorter));
      }
    }
    out.push_back(end_made_room(with_efi(lengths.back())));
    return out;
  }

  // Of a new EFI system partition, the one that is best first.
  [[nodiscard]] std::vector<std::uint64_t> efi_lengths() const {
    if (const auto* esp = asked_.find<EspGoal>()) return {esp->bytes};
    if (layout_.sector_size != 512) return {usual_efi_bytes};
    return {usual_efi_bytes, small_efi_bytes, least_efi_bytes};
  }

  // Volumes whose length nobody asked for: the system's first, then those with most room.
  [[nodiscard]] std::vector<unsigned> could_be_shorter() const {
    std::vector<unsigned> out{first().number};
    const auto free = [this](unsigned number) {
      return in_.state.find(number)->volume->free_bytes;
    };
    for (const SurveyedPartition& s : in_.state.volumes) {
      const unsigned number = s.partition.number;
      const bool known = is_editable(s);
      if (known && number != first().number && s.partition.role != Role::extended &&
          !has_errors(s.findings))
        out.push_back(number);
    }
    std::stable_sort(out.begin() + 1, out.end(),
                     [&free](unsigned a, unsigned b) { return free(a) > free(b); });
    std::erase_if(out, [this](unsigned number) {
      return asked_.find<SizeGoal>(number) != nullptr || asked_.is_gone(number);
    });
    return out;
  }

  // Those with nothing but boot files on them; the one that is started from first.
  [[nodiscard]] std::vector<unsigned> old_boot_partitions() const {
    std::vector<unsigned> out;
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const SurveyedPartition* s = in_.state.find(b.number);
      const bool of_system =
          std::any_of(in_.state.systems.systems.begin(), in_.state.systems.systems.end(),
                      [&b](const SystemVolume& v) { return v.number == b.number; });
      const bool asked_about =
          std::any_of(asked_.all().begin(), asked_.all().end(),
                      [&b](const Goal& g) { return g.partition() == b.number; });
      if (b.way != BootWay::legacy || of_system || !s->volume || asked_about) continue;
      const OpenVolume volume(in_, s->partition);
      if (volume.files == nullptr || !only_boot_files(*volume.files, BootWay::legacy)) continue;
      out.insert(b.in_force ? out.begin() : out.end(), b.number);
    }
    return out;
  }

  // The second GPT takes the disk's last sectors: a volume that ends there becomes a little
  // shorter.
  [[nodiscard]] Way end_made_room(Way way) const {
    if (layout_.kind != TableKind::mbr) return way;
    const std::uint64_t end = gpt_usable_end(layout_.disk_sectors, layout_.sector_size);
    for (const Partition& p : layout_.data_partitions()) {
      if (p.range().end() <= end || way.asked.is_gone(p.number) ||
          way.asked.find<SizeGoal>(p.number) != nullptr)
        continue;
      way.asked.add(
          SizeGoal{.partition = p.number, .kind = SizeGoal::Kind::less, .bytes = mib_bytes});
    }
    return way;
  }

  std::vector<Way> to_legacy() {
    if (layout_.sector_size != 512) {
      obstacle(ObstacleCode::boot_sectors,
               fmt::format("legacy firmware reads sectors of 512 bytes, and the disk has {}",
                           layout_.sector_size),
               "Boot the system by UEFI");
      return {};
    }
    const unsigned number = loading_volume();
    if (number == 0) {
      obstacle(ObstacleCode::boot_code,
               "no volume on the disk has a boot sector that loads the system's boot program: all "
               "are zeros, or only say something",
               "The boot sector of the system's volume must be its own: let the system's own "
               "repair write it, with this disk as it is, then ask again",
               first().number);
      return {};
    }
    const Partition& p = in_.state.find(number)->partition;
    const bool stays = layout_.kind == TableKind::mbr;
    Way out = base();
    if (!stays || !p.active) out.asked.add(ActiveGoal{number, true});
    if (!stays || p.role != Role::primary) out.asked.add(RoleGoal{number, Role::primary});
    out.boot.start_code = !in_.state.table.boot_code;
    out.boot.legacy_from = p.id;
    return {out};
  }

  // The one with the boot program on it; else the system's own volume, else any that could.
  [[nodiscard]] unsigned loading_volume() const {
    unsigned best = 0;
    int rank = 0;
    for (const SurveyedPartition& s : in_.state.volumes) {
      const unsigned number = s.partition.number;
      if (s.partition.role == Role::extended || !s.volume || asked_.is_gone(number) ||
          !format_of(s.signature.kind))
        continue;
      // It gets another boot sector.
      if (asked_.find<KindGoal>(number) != nullptr || asked_.find<ClusterGoal>(number) != nullptr)
        continue;
      const OpenVolume volume(in_, s.partition);
      if (volume.files == nullptr || !boot::loads_manager(*volume.window)) continue;
      const bool has_program = volume.files->find(paths::manager_legacy).has_value();
      const bool is_system = number == first().number;
      const int now = has_program ? 3 : is_system ? 2 : 1;
      if (now > rank) {
        rank = now;
        best = number;
      }
    }
    return best;
  }

  const PlanInput& in_;
  const goals::Asked& asked_;
  BootWay way_;
  PlanPart out_;
  const Layout& layout_;
};

}  // namespace

bool is_efi_volume(const SurveyedPartition& s) {
  return s.partition.role != Role::extended && s.volume &&
         base::traits_of(s.signature.kind).uefi_reads &&
         class_of(s.partition.type) == TypeClass::efi_system;
}

Ways ways_to_boot(const PlanInput& input, const goals::Asked& asked) {
  if (const auto* boot = asked.find<BootGoal>()) return WayFinder(input, asked, boot->way).find();
  return {.ways = {Way{asked, {}}}};
}

}  // namespace nuvrat::plan

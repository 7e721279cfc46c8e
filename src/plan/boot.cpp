// boot=uefi, boot=legacy: what else must be done for it.

#include "plan/boot.h"

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "boot/systems.h"
#include "plan/boot_volume.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

constexpr std::uint64_t mib_bytes = 1u << 20;
constexpr std::uint64_t usual_efi_bytes = 260 * mib_bytes;
constexpr std::uint64_t small_efi_bytes = 100 * mib_bytes;
// FAT32 needs 65,525 clusters; firmware reads it everywhere.
constexpr std::uint64_t least_efi_bytes = 36 * mib_bytes;

std::string words_of_way(StartWay way) {
  return way == StartWay::uefi ? "UEFI" : "legacy";
}

class Ways {
 public:
  Ways(const PlanInput& in, const ReadOptions& options, Assessment& out)
      : in_(in), options_(options), out_(out), layout_(in.state.table.layout) {}

  std::vector<Wishes> find() {
    const Systems& systems = in_.state.systems;
    const StartWay way = *in_.wishes.boot;
    if (systems.systems.empty()) {
      obstacle("no-system", "no system was found on the disk that firmware could start",
               "A system is known by its folders; one that is encrypted, or of another kind, isn't "
               "seen. Leave that goal out to change the table alone");
      return {};
    }
    const TableKind kind = in_.wishes.table.value_or(layout_.kind);
    const TableKind needed = way == StartWay::uefi ? TableKind::gpt : TableKind::mbr;
    if (kind != needed) {
      add_obstacle(out_, "boot-table",
                   fmt::format("a {} start needs {}", words_of_way(way),
                               needed == TableKind::gpt ? "a GPT" : "an MBR"),
                   fmt::format("Ask for table={} as well", name_of(needed)));
      out_.obstacles.back().goals = {{"table", name_of(needed)}, {"boot", name_of(way)}};
      return {};
    }
    if (!is_done() && has_loaders(way)) return way == StartWay::uefi ? to_uefi() : to_legacy();
    return {};
  }

 private:
  void obstacle(std::string code, std::string text, std::string remedy, unsigned partition = 0) {
    add_obstacle(out_, std::move(code), std::move(text), std::move(remedy), 0, partition);
  }

  bool is_done() {
    const bool other = in_.wishes.table && *in_.wishes.table != layout_.kind;
    if (other || in_.state.systems.starts() != in_.wishes.boot || in_.wishes.esp != 0) return false;
    obstacle("already",
             fmt::format("the disk starts by {} firmware already, as far as it can be seen",
                         words_of_way(*in_.wishes.boot)),
             "Nothing needs to be done");
    return true;
  }

  bool has_loaders(StartWay way) {
    for (const SystemVolume& s : in_.state.systems.systems) {
      const bool has = way == StartWay::uefi ? s.uefi_loader : s.legacy_loader;
      const char* loader = way == StartWay::uefi ? paths::loader_uefi : paths::loader_legacy;
      if (!has) {
        obstacle("boot-piece",
                 fmt::format("the system on p{} has no '{}', which a {} start needs", s.number,
                             loader, words_of_way(way)),
                 "The system itself can't be started that way; only its maker's installer can "
                 "change that",
                 s.number);
      }
      if (way == StartWay::uefi && s.machine == Machine::unknown)
        obstacle("boot-piece",
                 fmt::format("the loader of the system on p{} doesn't say for which machine it is",
                             s.number),
                 "Check the system's files", s.number);
    }
    if (out_.in_reach() && way == StartWay::uefi && first().machine == Machine::x86)
      out_.consents.push_back(
          {"boot-32",
           "the system has 32 bits: only the UEFI firmware of a 32-bit machine starts it; most "
           "machines with UEFI have one of 64 bits"});
    return out_.in_reach();
  }

  [[nodiscard]] const SystemVolume& first() const { return in_.state.systems.systems.front(); }

  std::vector<Wishes> to_uefi() {
    for (const SurveyedPartition& s : in_.state.volumes) {
      if (is_efi_volume(s) && in_.wishes.gone.count(s.partition.number) == 0) {
        Wishes there = in_.wishes;
        if (there.esp != 0)
          obstacle("esp-there",
                   fmt::format("p{} is an EFI system partition already", s.partition.number),
                   fmt::format("Leave esp={} out", format_bytes(there.esp)), s.partition.number);
        there.efi_start = s.partition.start;
        return {end_made_room(there)};
      }
    }
    Wishes base = in_.wishes;
    const std::vector<std::uint64_t> lengths = efi_lengths();
    base.make_efi = EfiWish{lengths.front(), lengths.size() > 1 ? lengths[1] : lengths.front()};
    std::vector<Wishes> out{end_made_room(base)};
    for (const unsigned old : old_boot_partitions()) {
      Wishes in_its_place = base;
      in_its_place.gone.insert(old);
      in_its_place.make_efi->least = lengths.back();
      out.push_back(end_made_room(in_its_place));
    }
    for (const unsigned number : could_be_shorter()) {
      for (const std::uint64_t bytes : lengths) {
        // A MiB more: the gap begins at a whole one.
        const std::uint64_t room = bytes + mib_bytes;
        if (in_.state.find(number)->volume->free_bytes < room) continue;
        Wishes shorter = base;
        shorter.sizes[number] = {SizeWish::Kind::less, room};
        shorter.make_efi->least = bytes;
        out.push_back(end_made_room(shorter));
      }
    }
    base.make_efi->least = lengths.back();
    out.push_back(end_made_room(base));
    return out;
  }

  // Of a new EFI system partition, the one that is best first.
  [[nodiscard]] std::vector<std::uint64_t> efi_lengths() const {
    if (in_.wishes.esp != 0) return {in_.wishes.esp};
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
      const bool known =
          s.volume && (is_fat(s.signature.kind) || s.signature.kind == VolumeKind::ntfs);
      if (known && number != first().number && s.partition.role != Role::extended &&
          !has_errors(s.findings))
        out.push_back(number);
    }
    std::stable_sort(out.begin() + 1, out.end(),
                     [&free](unsigned a, unsigned b) { return free(a) > free(b); });
    std::erase_if(out, [this](unsigned number) {
      return in_.wishes.sizes.count(number) != 0 || in_.wishes.gone.count(number) != 0;
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
      if (b.way != StartWay::legacy || of_system || !s->volume ||
          in_.wishes.gone.count(b.number) != 0)
        continue;
      const OpenVolume volume(in_, s->partition, options_);
      if (volume.files == nullptr || !only_boot_files(*volume.files, StartWay::legacy)) continue;
      out.insert(b.in_force ? out.begin() : out.end(), b.number);
    }
    return out;
  }

  // The second GPT takes the disk's last sectors: a volume that ends there becomes a little
  // shorter.
  [[nodiscard]] Wishes end_made_room(Wishes wishes) const {
    if (layout_.kind != TableKind::mbr) return wishes;
    const std::uint64_t end = gpt_usable_end(layout_.disk_sectors, layout_.sector_size);
    for (const Partition& p : layout_.data_partitions()) {
      if (p.range().end() <= end || wishes.gone.count(p.number) != 0 ||
          wishes.sizes.count(p.number) != 0)
        continue;
      wishes.sizes[p.number] = {SizeWish::Kind::less, mib_bytes};
    }
    return wishes;
  }

  std::vector<Wishes> to_legacy() {
    if (layout_.sector_size != 512) {
      obstacle("boot-sectors",
               fmt::format("legacy firmware reads sectors of 512 bytes, and the disk has {}",
                           layout_.sector_size),
               "Start the system by UEFI");
      return {};
    }
    const unsigned number = loading_volume();
    if (number == 0) {
      obstacle("boot-code",
               "no volume on the disk has a boot sector that loads the system's boot program: all "
               "are zeros, or only say something",
               "The boot sector of the system's volume must be its own: let the system's own "
               "repair write it, with this disk as it is, then ask again",
               first().number);
      return {};
    }
    Wishes out = in_.wishes;
    const Partition& p = in_.state.find(number)->partition;
    const bool stays = layout_.kind == TableKind::mbr;
    if (!stays || !p.active) out.active[number] = true;
    if (!stays || p.role != Role::primary) out.roles[number] = Role::primary;
    out.start_code = !in_.state.table.boot_code;
    out.legacy_start = p.start;
    return {out};
  }

  // The one with the boot program on it; else the system's own volume, else any that could.
  [[nodiscard]] unsigned loading_volume() const {
    unsigned best = 0;
    int rank = 0;
    for (const SurveyedPartition& s : in_.state.volumes) {
      const unsigned number = s.partition.number;
      if (s.partition.role == Role::extended || !s.volume || in_.wishes.gone.count(number) != 0 ||
          !(s.signature.kind == VolumeKind::ntfs || is_fat(s.signature.kind)))
        continue;
      if (in_.wishes.volumes.count(number) != 0) continue;  // it gets another boot sector
      const OpenVolume volume(in_, s.partition, options_);
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
  const ReadOptions& options_;
  Assessment& out_;
  const Layout& layout_;
};

}  // namespace

bool is_efi_volume(const SurveyedPartition& s) {
  return s.partition.role != Role::extended && s.volume && is_fat(s.signature.kind) &&
         s.signature.kind != VolumeKind::fat12 &&
         class_of(s.partition.type) == TypeClass::efi_system;
}

std::vector<Wishes> ways_to_start(const PlanInput& input, const ReadOptions& options,
                                  Assessment& out) {
  if (!input.wishes.boot) return {input.wishes};
  return Ways(input, options, out).find();
}

}  // namespace nuvrat::plan

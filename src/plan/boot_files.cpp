// Files that firmware and boot programs need, out of the system's own folders, and the boot store.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "boot/store.h"
#include "boot/systems.h"
#include "plan/boot.h"
#include "plan/boot_volume.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

constexpr std::uint64_t max_boot_bytes = 256u << 20;  // of all boot files
constexpr std::size_t max_boot_files = 20000;
constexpr std::uint32_t hidden_system = attr_hidden | attr_system;

// Files from the system's folders, and the store, for a partition.
class Gatherer {
 public:
  Gatherer(const PlanInput& in, const BootPlace& place, const Renamed& names)
      : in_(in), place_(place), names_(names) {}

  BootFileSet gather() {
    gather_files();
    if (!out_.in_reach()) files_.clear();
    return {std::move(files_), std::move(out_)};
  }

 private:
  void gather_files() {
    const SystemVolume& s = in_.state.systems.systems.front();
    // It may have another number by now.
    const SurveyedPartition* system = in_.state.find(s.partition);
    if (system == nullptr) {
      return out_.obstacle(ObstacleCode::no_system,
                           "the system's volume would be deleted, or the boot store can't name it",
                           "");
    }
    const OpenVolume from(in_, system->partition);
    if (from.files == nullptr) return;
    try {
      copy_programs(*from.files, s.machine);
      add_store(*from.files, boot::name_of(in_.state.table.layout, system->partition));
    } catch (const Error& e) {
      if (e.code() != ErrorCode::refused && e.code() != ErrorCode::damaged &&
          e.code() != ErrorCode::words)
        throw;
      const std::string where = e.place().path.empty() ? "" : " ('" + e.place().path + "')";
      out_.obstacle(ObstacleCode::boot_piece, fmt::format("boot files: {}{}", e.message(), where),
                    "Repair the system's own folders first", 0, s.number);
    }
  }

  [[nodiscard]] bool uefi() const { return place_.way == BootWay::uefi; }

  void add(std::string path, Bytes contents, Ticks modified, std::uint32_t attributes = 0) {
    bytes_ += contents.size();
    if (bytes_ > max_boot_bytes || files_.size() >= max_boot_files)
      throw Error(ErrorCode::refused, "they are more than a system has");
    files_.push_back({std::move(path), std::move(contents), attributes, modified});
  }

  // A folder with all that is in it; none where it isn't there.
  void copy_folder(volume::PathReader& from, const std::string& source, const std::string& target) {
    constexpr std::size_t max_depth = 8;
    std::vector<std::pair<std::string, std::string>> open{{source, target}};
    for (std::size_t depth = 0; !open.empty() && depth < max_depth; ++depth) {
      std::vector<std::pair<std::string, std::string>> next;
      for (const auto& [a, b] : open) {
        for (const volume::PathEntry& e : from.list(a)) {
          const std::string path = a + "/" + e.name;
          const std::string to = b.empty() ? e.name : b + "/" + e.name;
          if (e.directory) {
            next.emplace_back(path, to);
          } else {
            add(to, from.read(path, max_boot_bytes), e.modified);
          }
        }
      }
      open = std::move(next);
    }
  }

  // On a volume that has the program already, it is what belongs there.
  void copy_programs(volume::PathReader& from, Machine machine) {
    if (uefi()) {
      const std::string program = std::string(paths::source_uefi) + "/" + paths::manager_uefi;
      require(from, program);
      copy_folder(from, paths::source_uefi, paths::folder_uefi);
      copy_folder(from, paths::source_fonts, std::string(paths::folder_uefi) + "/Fonts");
      copy_folder(from, paths::source_resources, std::string(paths::folder_uefi) + "/Resources");
      add(paths::removable(machine), from.read(program, max_boot_bytes),
          from.find(program)->modified);
      return;
    }
    const OpenVolume to(in_, *place_.there);
    if (to.files->find(paths::manager_legacy)) return;
    const std::string program = std::string(paths::source_legacy) + "/" + paths::manager_legacy;
    require(from, program);
    for (const volume::PathEntry& e : from.list(paths::source_legacy)) {
      const std::string path = std::string(paths::source_legacy) + "/" + e.name;
      const bool root = e.name == paths::manager_legacy || e.name == "bootnxt";
      if (e.directory) {
        copy_folder(from, path, std::string(paths::folder_legacy) + "/" + e.name);
      } else {
        add(root ? e.name : std::string(paths::folder_legacy) + "/" + e.name,
            from.read(path, max_boot_bytes), e.modified,
            root ? hidden_system | attr_read_only : 0u);
      }
    }
    copy_folder(from, paths::source_fonts, std::string(paths::folder_legacy) + "/Fonts");
    copy_folder(from, paths::source_resources, std::string(paths::folder_legacy) + "/Resources");
  }

  static void require(volume::PathReader& from, const std::string& path) {
    if (!from.find(path))
      throw Error(ErrorCode::refused, "the system lacks a program that boots it", {.path = path});
  }

  // Out of the store that starts the system now; else of the one that is there; else of the
  // system's template.
  void add_store(volume::PathReader& from, const boot::PartitionName& system) {
    boot::StoreChange change;
    change.new_name = [this](const boot::PartitionName& old) { return names_(old); };
    change.way = place_.way;
    change.boot_files = place_.name;
    change.system = system;
    const char* target = uefi() ? paths::store_uefi : paths::store_legacy;
    std::string why;
    if (const auto store = store_now(why)) {
      const boot::ChangedStore changed = boot::change_store(*store, change);
      if (changed.left > 0)
        out_.consent(ConsentCode::store_others, PartitionId::none,
                     changed.left == 1
                         ? std::string("1 element of the boot store stays: it names another disk")
                         : fmt::format("{} elements of the boot store stay: they name other disks",
                                       changed.left));
      out_.append(tell_odd(changed));
      add(target, changed.file, store_time_);
      return;
    }
    if (!why.empty())
      throw Error(ErrorCode::refused, "the boot store can't be taken over: " + why +
                                          ". Boot the system once and shut it down");
    require(from, paths::store_template);
    add(target,
        boot::new_store(from.read(paths::store_template, boot::max_store_bytes), change).file,
        from.find(paths::store_template)->modified);
    out_.consent(ConsentCode::store_new, PartitionId::none,
                 "a new boot store is made: the disk has none",
                 "It is made out of the system's template, with one system to boot");
  }

  std::optional<Bytes> store_now(std::string& why) {
    std::vector<const BootFiles*> candidates;
    for (const BootFiles& b : in_.state.systems.boot_files) {
      if (b.store && (b.in_force || b.system != 0)) candidates.push_back(&b);
    }
    const auto rank = [](const BootFiles* b) {
      return b->in_force && b->system != 0 ? 0 : b->in_force ? 1 : 2;
    };
    std::stable_sort(candidates.begin(), candidates.end(),
                     [&rank](const auto* a, const auto* b) { return rank(a) < rank(b); });
    for (const BootFiles* b : candidates) {
      const SurveyedPartition* s = in_.state.find(b->partition);
      // One that is to be deleted isn't written over yet.
      const Partition* p = s == nullptr ? in_.before.find(b->partition) : &s->partition;
      if (p == nullptr) continue;
      const OpenVolume volume(in_, *p);
      if (volume.files == nullptr) continue;
      const char* path = b->way == BootWay::uefi ? paths::store_uefi : paths::store_legacy;
      FoundHive hive = open_hive(*volume.files, path, boot::max_store_bytes);
      if (hive.fault.empty()) {
        store_time_ = volume.files->find(path)->modified;
        return std::move(hive.file);
      }
      why = hive.fault;
      return std::nullopt;
    }
    return std::nullopt;
  }

  const PlanInput& in_;
  const BootPlace& place_;
  const Renamed& names_;
  PlanPart out_;
  std::vector<tree::PutFile> files_;
  std::uint64_t bytes_ = 0;
  Ticks store_time_ = 0;
};

}  // namespace

Renamed::Renamed(const Layout& before, const Layout& after) : after_(after) {
  for (const Partition& p : before.data_partitions()) {
    std::optional<boot::PartitionName> now;
    if (const Partition* q = after.find(p.id)) now = boot::name_of(after, *q);
    const boot::PartitionName was = boot::name_of(before, p);
    any_ = any_ || (now && *now != was);
    names_.emplace_back(was, now);
  }
}

std::optional<boot::PartitionName> Renamed::operator()(const boot::PartitionName& old) const {
  for (const auto& [was, now] : names_) {
    const bool same = was.gpt == old.gpt &&
                      (was.gpt ? was.partition == old.partition
                               : was.signature == old.signature && was.offset == old.offset);
    if (same) return now;
  }
  const Partition* already = boot::named_by(after_, old);
  return already == nullptr ? std::nullopt : std::optional(boot::name_of(after_, *already));
}

PlanPart tell_odd(const boot::ChangedStore& store) {
  PlanPart out;
  if (store.odd.empty()) return out;
  const bool one = store.odd.size() == 1;
  out.consent(ConsentCode::store_odd, PartitionId::none,
              one ? std::string("1 device in the boot store has an unknown form, and stays")
                  : fmt::format("{} devices in the boot store have unknown forms, and stay",
                                store.odd.size()),
              fmt::format("{}{}. A repair system's may look so; it may have to be set anew",
                          printable(store.odd.front()), one ? "" : " and others"));
  return out;
}

BootFileSet boot_files_for(const PlanInput& input, const BootPlace& place, const Renamed& names) {
  return Gatherer(input, place, names).gather();
}

}  // namespace nuvrat::plan

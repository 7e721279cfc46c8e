#include "plan/boot.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "boot/store.h"
#include "boot/systems.h"
#include "steps/kinds.h"
#include "volume/paths.h"

namespace nuvrat {
namespace {

namespace paths = boot_paths;

constexpr std::uint64_t mib_bytes = 1u << 20;
constexpr std::uint64_t usual_efi_bytes = 260 * mib_bytes;
constexpr std::uint64_t most_boot_bytes = 256 * mib_bytes;  // of all boot files
constexpr std::size_t most_boot_files = 20000;
constexpr std::uint32_t hidden_system = attr_hidden | attr_system;

std::string words_of_way(StartWay way) {
  return way == StartWay::uefi ? "UEFI" : "legacy";
}

// One volume by its paths; it may not be readable.
struct OpenVolume {
  OpenVolume(const PlanInput& in, const Partition& p, const ReadOptions& options)
      : window(std::make_unique<Window>(in.device, p.range())),
        files(open_paths(*window, options)) {}
  std::unique_ptr<Window> window;
  std::unique_ptr<PathReader> files;
};

// The same path as it is written on the volume, as far as it is there.
std::string real_path(PathReader& files, const std::string& path) {
  std::string out;
  for (std::size_t at = 0; at <= path.size();) {
    const std::size_t end = std::min(path.find('/', at), path.size());
    const auto there = files.find(path.substr(0, end));
    if (!out.empty()) out += '/';
    out += there ? there->name : path.substr(at, end - at);
    at = end + 1;
  }
  return out;
}

// Nothing but what a start needs, by the names in the root folder.
bool only_boot_files(PathReader& files) {
  static const std::set<std::string> known = {
      "boot",         "bootmgr",  "bootnxt",      "bootsect.bak", "system volume information",
      "$recycle.bin", "recovery", "bootstat.dat", "boottel.dat"};
  for (const PathEntry& e : files.list("")) {
    std::string name = e.name;
    for (char& c : name) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
    const bool of_format = name.starts_with("$") || name == ".";
    if (!of_format && known.count(name) == 0) return false;
  }
  return true;
}

// A boot store or the hive with letters, or why it can't be changed.
struct FoundHive {
  Bytes file;
  std::string fault;
};
FoundHive open_hive(PathReader& files, const std::string& path, std::uint64_t most) {
  try {
    HiveFile hive = read_hive(files, path, most);
    if (const auto fault = hive_fault(hive.file, hive.logs)) return {{}, *fault};
    return {std::move(hive.file), ""};
  } catch (const Error& e) {
    if (e.code() == ErrorCode::device_read) throw;
    return {{}, e.message()};
  }
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
    const std::uint64_t sector = layout_.sector_size;
    // FAT32 needs 65,525 clusters; firmware reads it everywhere.
    const std::uint64_t least = sector == 512 ? 36 * mib_bytes : usual_efi_bytes;
    base.make_efi = EfiWish{base.esp == 0 ? usual_efi_bytes : base.esp,
                            base.esp == 0 ? std::min(100 * mib_bytes, usual_efi_bytes) : base.esp};
    if (sector != 512) base.make_efi->least = std::max(base.make_efi->least, least);
    std::vector<Wishes> out{end_made_room(base)};
    if (const unsigned old = old_boot_partition(); old != 0) {
      Wishes in_its_place = base;
      in_its_place.gone.insert(old);
      if (base.esp == 0) in_its_place.make_efi->least = least;
      out.push_back(end_made_room(in_its_place));
    }
    const unsigned number = first().number;
    if (base.sizes.count(number) == 0) {
      Wishes shorter = base;
      // A MiB more: the gap begins at a whole one.
      shorter.sizes[number] = {SizeWish::Kind::less, base.make_efi->bytes + mib_bytes};
      out.push_back(end_made_room(shorter));
    }
    return out;
  }

  // The active partition, where only boot files are on it.
  [[nodiscard]] unsigned old_boot_partition() const {
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const SurveyedPartition* s = in_.state.find(b.number);
      const bool of_system =
          std::any_of(in_.state.systems.systems.begin(), in_.state.systems.systems.end(),
                      [&b](const SystemVolume& v) { return v.number == b.number; });
      if (b.way != StartWay::legacy || !b.in_force || of_system || !s->volume ||
          in_.wishes.gone.count(b.number) != 0)
        continue;
      const OpenVolume volume(in_, s->partition, options_);
      if (volume.files != nullptr && only_boot_files(*volume.files)) return b.number;
    }
    return 0;
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
          !(s.signature.kind == VolumeKind::ntfs))
        continue;
      if (in_.wishes.volumes.count(number) != 0) continue;  // it gets another boot sector
      const OpenVolume volume(in_, s.partition, options_);
      if (!loads_manager(*volume.window)) continue;
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

// Files from the system's folders, and the store, for a partition.
class BootFileSet {
 public:
  BootFileSet(const PlanInput& in, const ReadOptions& options, StartWay way, Assessment& out)
      : in_(in), options_(options), way_(way), out_(out) {}

  std::vector<PutFile> gather(const PartitionName& place, const Partition* there,
                              const Renamed& names) {
    const SystemVolume& s = in_.state.systems.systems.front();
    // By where it began, it may have another number by now.
    const auto start = start_after(out_.changes, s.start);
    const SurveyedPartition* system = start ? in_.state.at(*start) : nullptr;
    if (system == nullptr) {
      add_obstacle(out_, "no-system", "the system's volume is to go, or can't be named", "", 0, 0);
      return {};
    }
    const OpenVolume from(in_, system->partition, options_);
    if (from.files == nullptr) return {};
    try {
      copy_programs(*from.files, s.machine, there);
      add_store(*from.files, place, names, name_of(in_.state.table.layout, system->partition),
                there);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::refused && e.code() != ErrorCode::damaged &&
          e.code() != ErrorCode::words)
        throw;
      const std::string where = e.place().path.empty() ? "" : " ('" + e.place().path + "')";
      add_obstacle(out_, "boot-piece", fmt::format("boot files: {}{}", e.message(), where),
                   "Put the system's own folders right first", 0, s.number);
    }
    return std::move(files_);
  }

 private:
  [[nodiscard]] bool uefi() const { return way_ == StartWay::uefi; }

  void add(std::string path, Bytes contents, Ticks modified, std::uint32_t attributes = 0) {
    bytes_ += contents.size();
    if (bytes_ > most_boot_bytes || files_.size() >= most_boot_files)
      throw Error(ErrorCode::refused, "they are more than a system has");
    files_.push_back({std::move(path), std::move(contents), attributes, modified});
  }

  // A folder with all that is in it; none where it isn't there.
  void copy_folder(PathReader& from, const std::string& source, const std::string& target) {
    constexpr std::size_t most_depth = 8;
    std::vector<std::pair<std::string, std::string>> open{{source, target}};
    for (std::size_t depth = 0; !open.empty() && depth < most_depth; ++depth) {
      std::vector<std::pair<std::string, std::string>> next;
      for (const auto& [a, b] : open) {
        for (const PathEntry& e : from.list(a)) {
          const std::string path = a + "/" + e.name;
          const std::string to = b.empty() ? e.name : b + "/" + e.name;
          if (e.directory) {
            next.emplace_back(path, to);
          } else {
            add(to, from.read(path, most_boot_bytes), e.modified);
          }
        }
      }
      open = std::move(next);
    }
  }

  // On a volume that has the program already, it is what belongs there.
  void copy_programs(PathReader& from, Machine machine, const Partition* there) {
    if (uefi()) {
      const std::string program = std::string(paths::source_uefi) + "/" + paths::manager_uefi;
      require(from, program);
      copy_folder(from, paths::source_uefi, paths::folder_uefi);
      copy_folder(from, paths::source_fonts, std::string(paths::folder_uefi) + "/Fonts");
      copy_folder(from, paths::source_resources, std::string(paths::folder_uefi) + "/Resources");
      add(paths::removable(machine), from.read(program, most_boot_bytes),
          from.find(program)->modified);
      return;
    }
    const OpenVolume to(in_, *there, options_);
    if (to.files->find(paths::manager_legacy)) return;
    const std::string program = std::string(paths::source_legacy) + "/" + paths::manager_legacy;
    require(from, program);
    for (const PathEntry& e : from.list(paths::source_legacy)) {
      const std::string path = std::string(paths::source_legacy) + "/" + e.name;
      const bool root = e.name == paths::manager_legacy || e.name == "bootnxt";
      if (e.directory) {
        copy_folder(from, path, std::string(paths::folder_legacy) + "/" + e.name);
      } else {
        add(root ? e.name : std::string(paths::folder_legacy) + "/" + e.name,
            from.read(path, most_boot_bytes), e.modified,
            root ? hidden_system | attr_read_only : 0u);
      }
    }
    copy_folder(from, paths::source_fonts, std::string(paths::folder_legacy) + "/Fonts");
    copy_folder(from, paths::source_resources, std::string(paths::folder_legacy) + "/Resources");
  }

  static void require(PathReader& from, const std::string& path) {
    if (!from.find(path))
      throw Error(ErrorCode::refused, "the system lacks a program that it is started by",
                  {{}, {}, {}, path});
  }

  // Out of the store that starts the system now; else of the one that is there; else of the
  // system's template.
  void add_store(PathReader& from, const PartitionName& place, const Renamed& names,
                 const PartitionName& system, const Partition* there) {
    StoreChange change;
    change.new_name = [&names](const PartitionName& old) { return names(old); };
    change.way = way_;
    change.boot_files = place;
    change.system = system;
    const char* target = uefi() ? paths::store_uefi : paths::store_legacy;
    std::string why;
    if (const auto store = store_now(there, why)) {
      const ChangedStore changed = change_store(*store, change);
      if (changed.left > 0)
        out_.consents.push_back(
            {"store-others",
             changed.left == 1
                 ? std::string("1 element of the boot store names a partition that isn't on this "
                               "disk: left as it is")
                 : fmt::format("{} elements of the boot store name partitions that aren't on this "
                               "disk: left as they are",
                               changed.left)});
      if (changed.odd > 0)
        out_.consents.push_back(
            {"store-odd",
             fmt::format("{} of the boot store {} a device in a form that isn't known here, as a "
                         "repair system's may: left as {}; what {} may have to be set anew",
                         plural(changed.odd, "element", "elements"),
                         changed.odd == 1 ? "names" : "name",
                         changed.odd == 1 ? "it is" : "they are",
                         changed.odd == 1 ? "it starts" : "they start")});
      add(target, changed.file, store_time_);
      return;
    }
    if (!why.empty())
      throw Error(ErrorCode::refused, "the boot store can't be taken over: " + why +
                                          ". Start the system once and shut it down");
    require(from, paths::store_template);
    add(target, new_store(from.read(paths::store_template, most_store_bytes), change).file,
        from.find(paths::store_template)->modified);
    out_.consents.push_back(
        {"store-new",
         "no boot store was found on the disk: a new one is made out of the system's template, "
         "with one system to start"});
  }

  std::optional<Bytes> store_now(const Partition* there, std::string& why) {
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
      const auto start = start_after(out_.changes, b->start);
      const SurveyedPartition* s = start ? in_.state.at(*start) : nullptr;
      Partition gone;
      if (s == nullptr) {  // to be deleted, and not written over yet
        gone.start = b->start;
        const auto it = std::find_if(
            out_.before.partitions.begin(), out_.before.partitions.end(),
            [b](const Partition& p) { return p.start == b->start && p.role != Role::extended; });
        if (it == out_.before.partitions.end()) continue;
        gone = *it;
      }
      const OpenVolume volume(in_, s == nullptr ? gone : s->partition, options_);
      if (volume.files == nullptr) continue;
      const char* path = b->way == StartWay::uefi ? paths::store_uefi : paths::store_legacy;
      FoundHive hive = open_hive(*volume.files, path, most_store_bytes);
      if (hive.fault.empty()) {
        store_time_ = volume.files->find(path)->modified;
        return std::move(hive.file);
      }
      why = hive.fault;
      return std::nullopt;
    }
    (void)there;
    return std::nullopt;
  }

  const PlanInput& in_;
  const ReadOptions& options_;
  StartWay way_;
  Assessment& out_;
  std::vector<PutFile> files_;
  std::uint64_t bytes_ = 0;
  Ticks store_time_ = 0;
};

// Puts files on volumes that are there, each volume in one step.
class Starts {
 public:
  Starts(const PlanInput& in, const ReadOptions& options, const Renamed& names, Assessment& out)
      : in_(in), options_(options), names_(names), out_(out) {}

  void plan() {
    if (in_.wishes.boot) put_boot_files();
    if (!in_.wishes.boot && names_.any()) follow_stores();
    if (out_.in_reach()) follow_letters();
    if (!out_.in_reach()) return;
    for (auto& [start, files] : puts_) put(*in_.state.at(start), std::move(files));
    if (in_.wishes.boot && out_.in_reach()) note_start();
  }

 private:
  // On an EFI system partition that was there before, or on the active one.
  void put_boot_files() {
    const StartWay way = *in_.wishes.boot;
    const auto was = way == StartWay::uefi ? in_.wishes.efi_start : in_.wishes.legacy_start;
    if (!was) return;  // they came with the new partition
    const auto start = start_after(out_.changes, *was);
    const SurveyedPartition* s = start ? in_.state.at(*start) : nullptr;
    if (s == nullptr) return;
    auto files = boot_files_for(in_, options_, way, name_of(in_.state.table.layout, s->partition),
                                &s->partition, names_, out_);
    auto& list = puts_[s->partition.start];
    std::move(files.begin(), files.end(), std::back_inserter(list));
  }

  void note_start() {
    const SystemVolume& first = in_.state.systems.systems.front();
    StartChange start;
    start.way = *in_.wishes.boot;
    start.machine = first.machine;
    const auto number_of = [this](std::optional<std::uint64_t> before) {
      const auto now = before ? start_after(out_.changes, *before) : std::nullopt;
      const SurveyedPartition* s = now ? in_.state.at(*now) : nullptr;
      return s == nullptr ? 0u : s->partition.number;
    };
    start.system = number_of(first.start);
    start.boot_files =
        number_of(start.way == StartWay::uefi ? in_.wishes.efi_start : in_.wishes.legacy_start);
    if (in_.wishes.make_efi) {
      for (const SurveyedPartition& s : in_.state.volumes) {
        if (!start_before(out_.changes, s.partition.start) &&
            class_of(s.partition.type) == TypeClass::efi_system)
          start.boot_files = s.partition.number;
      }
    }
    tell(start);
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const unsigned number = number_of(b.start);
      if (!b.in_force || b.way == start.way || number == start.system || number == 0) continue;
      const SurveyedPartition* s = in_.state.find(number);
      const OpenVolume volume(in_, s->partition, options_);
      const bool only =
          b.way == StartWay::uefi || (volume.files != nullptr && only_boot_files(*volume.files));
      if (only) start.spare = number;
    }
    out_.start = start;
  }

  void tell(const StartChange& start) {
    std::size_t files = 0;
    std::uint64_t bytes = 0;
    const auto count = [&](const std::vector<PutFile>& put) {
      for (const PutFile& f : put) {
        ++files;
        bytes += f.contents.size();
      }
    };
    for (const Step& step : out_.steps) {
      if (const auto* made = std::get_if<steps::NewVolume>(&step.work().kind)) count(made->files);
      if (const auto* edit = std::get_if<steps::EditNtfs>(&step.work().kind)) {
        for (const PutFile& f : edit->files) {
          if (!f.path.ends_with("config/SYSTEM")) count({f});
        }
      }
      if (const auto* fat = std::get_if<steps::ToFat>(&step.work().kind)) count(fat->files);
    }
    const Partition* p = in_.state.table.layout.find(start.boot_files);
    if (p == nullptr) return;
    out_.consents.push_back(
        {"boot-files",
         fmt::format("p{} {}: {} ({}) of the system's own folders and of its boot store", p->number,
                     in_.wishes.make_efi
                         ? fmt::format("is a new EFI system partition of {}",
                                       format_bytes(p->sectors * in_.device.sector_size()))
                     : start.way == StartWay::uefi ? std::string("is the EFI system partition")
                                                   : std::string("is what legacy firmware starts"),
                     files == 0 ? std::string("it holds what it needs")
                                : "it gets " + plural(files, "file", "files"),
                     format_bytes(bytes))});
  }

  // Each store goes on naming the partitions that it named.
  void follow_stores() {
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const SurveyedPartition* s = volume_of(b.start);
      if (s == nullptr || !b.store) continue;
      const OpenVolume volume(in_, s->partition, options_);
      if (volume.files == nullptr) continue;
      const std::string path = real_path(
          *volume.files, b.way == StartWay::uefi ? paths::store_uefi : paths::store_legacy);
      FoundHive hive = open_hive(*volume.files, path, most_store_bytes);
      if (hive.fault.empty()) {
        StoreChange change;
        change.new_name = [this](const PartitionName& old) { return names_(old); };
        ChangedStore changed = change_store(hive.file, change);
        if (changed.named == 0) continue;
        out_.consents.push_back(
            {"store",
             fmt::format("the boot store on p{} names partitions as they are called afterwards",
                         s->partition.number)});
        puts_[s->partition.start].push_back({path, std::move(changed.file), 0, 0});
      } else {
        out_.consents.push_back(
            {"store-left",
             fmt::format(
                 "the boot store on p{} can't be changed: {}; a system that it starts won't "
                 "start afterwards",
                 s->partition.number, hive.fault)});
      }
    }
  }

  void follow_letters() {
    std::vector<std::pair<char, PartitionName>> wanted;
    for (const auto& [number, letter] : in_.wishes.letters) {
      const SurveyedPartition* s = volume_of(out_.before.find(number)->start);
      if (s != nullptr) wanted.emplace_back(letter, name_of(in_.state.table.layout, s->partition));
    }
    if (!wanted.empty() && in_.state.systems.systems.empty()) {
      return add_obstacle(out_, "no-system",
                          "a drive letter is kept by a system, and none was found on the disk",
                          "Set it under the system that uses the disk");
    }
    if (wanted.empty() && !names_.any()) return;
    for (const SystemVolume& v : in_.state.systems.systems) {
      const SurveyedPartition* s = volume_of(v.start);
      if (s == nullptr) continue;
      const OpenVolume volume(in_, s->partition, options_);
      if (volume.files == nullptr || !volume.files->find(paths::hive)) {
        cant_follow(*s, "its hive isn't there", !wanted.empty());
        continue;
      }
      const std::string path = real_path(*volume.files, paths::hive);
      const FoundHive hive = open_hive(*volume.files, path, most_hive_bytes);
      if (!hive.fault.empty()) {
        cant_follow(*s, hive.fault, !wanted.empty());
        continue;
      }
      try {
        follow_in(*s, path, hive.file, wanted);
      } catch (const Error& e) {
        if (e.code() != ErrorCode::damaged) throw;
        cant_follow(*s, e.message(), !wanted.empty());
      }
    }
  }

  void follow_in(const SurveyedPartition& s, const std::string& path, const Bytes& hive,
                 const std::vector<std::pair<char, PartitionName>>& wanted) {
    if (!letters_are_free(s, hive, wanted)) return;
    ChangedLetters changed = change_letters(
        hive, [this](const PartitionName& old) { return names_(old); }, wanted);
    if (changed.file.empty()) return;
    if (changed.followed > 0)
      out_.consents.push_back(
          {"letters",
           fmt::format("the system on p{} keeps {}: its hive names the partitions as they are "
                       "called afterwards",
                       s.partition.number,
                       plural(changed.followed, "drive letter", "drive letters"))});
    puts_[s.partition.start].push_back({path, std::move(changed.file), 0, 0});
  }

  bool letters_are_free(const SurveyedPartition& s, const Bytes& hive,
                        const std::vector<std::pair<char, PartitionName>>& wanted) {
    if (wanted.empty()) return true;
    const std::vector<DriveLetter> letters = read_letters(Hive(hive, "the system's hive"));
    for (const auto& wish : wanted) {
      const char letter = wish.first;
      const PartitionName& name = wish.second;
      for (const DriveLetter& has : letters) {
        if (has.letter != letter) continue;
        const auto now = has.partition ? names_(*has.partition) : std::nullopt;
        if (now && letter_value(*now) == letter_value(name)) continue;
        const Partition* other = now ? named_by(in_.state.table.layout, *now) : nullptr;
        const bool moves =
            other != nullptr && std::any_of(wanted.begin(), wanted.end(), [&](const auto& w) {
              return w.first != letter && w.second == name_of(in_.state.table.layout, *other);
            });
        if (moves) continue;
        add_obstacle(
            out_, "letter-taken",
            fmt::format("the system on p{} uses the letter {} for {}", s.partition.number, letter,
                        other != nullptr ? fmt::format("p{}", other->number)
                        : has.partition  ? "a partition of another disk"
                                         : "another device"),
            other != nullptr ? fmt::format("Give p{} another one in the same plan, or choose "
                                           "another letter",
                                           other->number)
                             : "Choose another letter");
      }
    }
    return out_.in_reach();
  }

  void cant_follow(const SurveyedPartition& s, const std::string& why, bool is_goal) {
    const std::string text = fmt::format(
        "the drive letters of the system on p{} can't be changed: {}", s.partition.number, why);
    if (is_goal || in_.wishes.boot) {
      add_obstacle(
          out_, "hive", text,
          "Start the system once, shut it down (not to sleep, no fast start), and ask again", 0,
          s.partition.number);
    } else {
      out_.consents.push_back({"letters-left", text + "; it may give other letters"});
    }
  }

  // The volume that began there before everything; null: it is to go, or isn't one.
  [[nodiscard]] const SurveyedPartition* volume_of(std::uint64_t start) const {
    const auto now = start_after(out_.changes, start);
    const SurveyedPartition* s = now ? in_.state.at(*now) : nullptr;
    return s != nullptr && s->volume ? s : nullptr;
  }

  void put(const SurveyedPartition& s, std::vector<PutFile> files) {
    if (!is_awake(in_, options_, s, out_)) return;
    const std::size_t planned = out_.steps.size();
    std::vector<ExpectedChange> changes = expected_of(s, files);
    if (changes.empty()) return;  // all of it is there already
    if (is_fat(s.signature.kind)) {
      VolumeWish wish;
      wish.files = std::move(files);
      plan_volume_fat(in_, options_, s.partition.number, wish, out_);
    } else {
      steps::EditNtfs work;
      work.change = change_in_place(s, options_);
      work.files = std::move(files);
      if (lay_out(s, work)) out_.steps.push_back(Step(in_.state.table.layout, {std::move(work)}));
    }
    if (out_.steps.size() == planned) return;
    std::move(changes.begin(), changes.end(), std::back_inserter(out_.changes));
  }

  bool lay_out(const SurveyedPartition& s, steps::EditNtfs& work) {
    try {
      return lay_out_edit(in_, s, work, "boot files and letters can't be written", out_);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::refused) throw;
      add_obstacle(out_, "boot-file", e.message(),
                   "Put it right under the system that owns the volume", 0, s.partition.number);
      return false;
    }
  }

  // What the comparison must find; files that are there as they should be are taken out.
  std::vector<ExpectedChange> expected_of(const SurveyedPartition& s, std::vector<PutFile>& files) {
    const OpenVolume volume(in_, s.partition, options_);
    std::vector<ExpectedChange> out;
    std::set<std::string> folders;
    const auto add = [&](ExpectedChange::Kind kind, const std::string& path) -> ExpectedChange& {
      ExpectedChange& c = out.emplace_back();
      c.kind = kind;
      c.start = s.partition.start;
      c.path = path;
      return c;
    };
    std::erase_if(files, [&](PutFile& file) {
      file.path = real_path(*volume.files, file.path);
      const auto there = volume.files->find(file.path);
      return there && !there->directory && there->bytes == file.contents.size() &&
             volume.files->read(file.path, file.contents.size()) == file.contents;
    });
    for (const PutFile& file : files) {
      for (std::size_t end = file.path.find('/'); end != std::string::npos;
           end = file.path.find('/', end + 1)) {
        const std::string folder = file.path.substr(0, end);
        if (!volume.files->find(folder) && folders.insert(folder).second)
          add(ExpectedChange::Kind::folder, folder);
      }
      ExpectedChange& c = add(ExpectedChange::Kind::written, file.path);
      c.size = file.contents.size();
      c.text = Sha256::of(file.contents).hex();
    }
    return out;
  }

  const PlanInput& in_;
  const ReadOptions& options_;
  const Renamed& names_;
  Assessment& out_;
  std::map<std::uint64_t, std::vector<PutFile>> puts_;  // by start
};

}  // namespace

bool is_efi_volume(const SurveyedPartition& s) {
  return s.partition.role != Role::extended && s.volume && is_fat(s.signature.kind) &&
         s.signature.kind != VolumeKind::fat12 &&
         class_of(s.partition.type) == TypeClass::efi_system;
}

Renamed::Renamed(const Layout& before, const Layout& after,
                 const std::vector<ExpectedChange>& changes)
    : before_(before), after_(after) {
  for (const Partition& p : before.data_partitions()) {
    const auto start = start_after(changes, p.start);
    std::optional<PartitionName> now;
    for (const Partition& q : after.data_partitions()) {
      if (start && q.start == *start) now = name_of(after, q);
    }
    const PartitionName was = name_of(before, p);
    any_ = any_ || (now && *now != was);
    names_.emplace_back(was, now);
  }
}

std::optional<PartitionName> Renamed::operator()(const PartitionName& old) const {
  for (const auto& [was, now] : names_) {
    const bool same = was.gpt == old.gpt &&
                      (was.gpt ? was.partition == old.partition
                               : was.signature == old.signature && was.offset == old.offset);
    if (same) return now;
  }
  const Partition* already = named_by(after_, old);
  return already == nullptr ? std::nullopt : std::optional(name_of(after_, *already));
}

std::vector<Wishes> ways_to_start(const PlanInput& input, const ReadOptions& options,
                                  Assessment& out) {
  if (!input.wishes.boot) return {input.wishes};
  return Ways(input, options, out).find();
}

std::vector<PutFile> boot_files_for(const PlanInput& input, const ReadOptions& options,
                                    StartWay way, const PartitionName& place,
                                    const Partition* there, const Renamed& names, Assessment& out) {
  return BootFileSet(input, options, way, out).gather(place, there, names);
}

void plan_starts(const PlanInput& input, const ReadOptions& options, const Renamed& names,
                 Assessment& out) {
  Starts(input, options, names, out).plan();
}

}  // namespace nuvrat

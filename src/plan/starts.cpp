// Boot files, boot stores and drive letters on volumes that are there.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "boot/store.h"
#include "boot/systems.h"
#include "plan/boot.h"
#include "plan/boot_volume.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

constexpr Machine machines[] = {Machine::x86, Machine::x86_64, Machine::arm64};

// The same path as it is written on the volume, as far as it is there.
std::string real_path(volume::PathReader& files, const std::string& path) {
  std::string wanted;
  std::string out;
  for (const std::string& part : base::path_parts(path)) {
    const std::string slash = wanted.empty() ? "" : "/";
    wanted += slash + part;
    const auto there = files.find(wanted);
    out += slash + (there ? there->name : part);
  }
  return out;
}

// Puts files on volumes that are there, each volume in one step.
class Starts {
 public:
  Starts(const PlanInput& in, const ReadOptions& options, const Renamed& names, Assessment& out)
      : in_(in), options_(options), names_(names), out_(out) {}

  void plan() {
    if (in_.wishes.boot) put_boot_files();
    if (in_.wishes.make_efi) count(in_.wishes.make_efi->files);
    if (!in_.wishes.boot && names_.any()) follow_stores();
    if (out_.in_reach()) follow_letters();
    if (out_.in_reach() && names_.any()) tell_recovery();
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
    if (way == StartWay::legacy) set_start(in_.device, in_.state.table.layout, *s, out_);
    auto files =
        boot_files_for(in_, options_, way, boot::name_of(in_.state.table.layout, s->partition),
                       &s->partition, names_, out_);
    if (!out_.in_reach()) return;
    leave_out_same(*s, files);
    count(files);
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
      if (volume.files != nullptr && only_boot_files(*volume.files, b.way)) start.spare = number;
    }
    out_.start = start;
  }

  void tell(const StartChange& start) {
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
                     boot_files_ == 0 ? std::string("it holds what it needs")
                                      : "it gets " + plural(boot_files_, "file", "files"),
                     format_bytes(boot_bytes_))});
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
      FoundHive hive = open_hive(*volume.files, path, boot::max_store_bytes);
      if (hive.fault.empty()) {
        boot::StoreChange change;
        change.new_name = [this](const boot::PartitionName& old) { return names_(old); };
        boot::ChangedStore changed = boot::change_store(hive.file, change);
        tell_odd(changed, out_);
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

  // Its forms differ by the system's age, so it is neither read nor changed.
  void tell_recovery() {
    for (const SystemVolume& v : in_.state.systems.systems) {
      const SurveyedPartition* s = volume_of(v.start);
      if (s == nullptr) continue;
      const OpenVolume volume(in_, s->partition, options_);
      if (volume.files == nullptr || !volume.files->find(paths::recovery)) continue;
      out_.consents.push_back(
          {"recovery-settings",
           fmt::format("'{}' on p{} is where a system keeps the place of its own repair; it was "
                       "not looked into and is left as it is: if it names a partition as it is "
                       "called now, the system must set it anew",
                       paths::recovery, s->partition.number)});
    }
  }

  void follow_letters() {
    std::vector<std::pair<char, boot::PartitionName>> wanted;
    for (const auto& [number, letter] : in_.wishes.letters) {
      const SurveyedPartition* s = volume_of(out_.before.find(number)->start);
      if (s != nullptr)
        wanted.emplace_back(letter, boot::name_of(in_.state.table.layout, s->partition));
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
      const FoundHive hive = open_hive(*volume.files, path, boot::max_hive_bytes);
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
                 const std::vector<std::pair<char, boot::PartitionName>>& wanted) {
    if (!letters_are_free(s, hive, wanted)) return;
    boot::ChangedLetters changed = boot::change_letters(
        hive, [this](const boot::PartitionName& old) { return names_(old); }, wanted);
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
                        const std::vector<std::pair<char, boot::PartitionName>>& wanted) {
    if (wanted.empty()) return true;
    const std::vector<boot::DriveLetter> letters =
        boot::read_letters(boot::Hive(hive, "the system's hive"));
    for (const auto& wish : wanted) {
      const char letter = wish.first;
      const boot::PartitionName& name = wish.second;
      for (const boot::DriveLetter& has : letters) {
        if (has.letter != letter) continue;
        const auto now = has.partition ? names_(*has.partition) : std::nullopt;
        if (now && boot::letter_value(*now) == boot::letter_value(name)) continue;
        const Partition* other = now ? boot::named_by(in_.state.table.layout, *now) : nullptr;
        const bool moves =
            other != nullptr && std::any_of(wanted.begin(), wanted.end(), [&](const auto& w) {
              return w.first != letter && w.second == boot::name_of(in_.state.table.layout, *other);
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

  void put(const SurveyedPartition& s, std::vector<tree::PutFile> files) {
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

  // Files that are there as they should be; the others by the names that are there.
  void leave_out_same(const SurveyedPartition& s, std::vector<tree::PutFile>& files) const {
    const OpenVolume volume(in_, s.partition, options_);
    std::erase_if(files, [&](tree::PutFile& file) {
      file.path = real_path(*volume.files, file.path);
      const auto there = volume.files->find(file.path);
      return there && !there->directory && there->bytes == file.contents.size() &&
             volume.files->read(file.path, file.contents.size()) == file.contents;
    });
  }

  void count(const std::vector<tree::PutFile>& files) {
    boot_files_ += files.size();
    for (const tree::PutFile& f : files) boot_bytes_ += f.contents.size();
  }

  // What the comparison must find.
  std::vector<ExpectedChange> expected_of(const SurveyedPartition& s,
                                          const std::vector<tree::PutFile>& files) const {
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
    for (const tree::PutFile& file : files) {
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
  std::map<std::uint64_t, std::vector<tree::PutFile>> puts_;  // by start
  std::size_t boot_files_ = 0;  // that are put somewhere, and their bytes
  std::uint64_t boot_bytes_ = 0;
};

// It becomes FAT or NTFS, and gets the boot sector of that.
bool another_kind(const Wishes& wishes, unsigned number) {
  const auto wish = wishes.volumes.find(number);
  return wish != wishes.volumes.end() && wish->second.kind.has_value();
}

// Entries that firmware keeps itself name the EFI system partition by its number, its GUID and
// where it begins.
void tell_firmware(const Systems& before, const Device& planned, const disk::DiskState& after,
                   const ReadOptions& options, Assessment& out) {
  for (const BootFiles& b : before.boot_files) {
    if (!b.in_force || b.way != StartWay::uefi) continue;
    const Partition* was = out.before.find(b.number);
    const auto start = start_after(out.changes, b.start);
    const SurveyedPartition* now = start ? after.at(*start) : nullptr;
    if (was == nullptr || now == nullptr) continue;
    const Partition& is = now->partition;
    if (was->start == is.start && was->sectors == is.sectors && was->number == is.number &&
        was->unique_id == is.unique_id)
      continue;
    const Window window(planned, is.range());
    const auto files = volume::open_paths(window, options);
    const bool removable =
        files != nullptr &&
        std::any_of(std::begin(machines), std::end(machines),
                    [&files](Machine m) { return files->find(paths::removable(m)).has_value(); });
    out.consents.push_back(
        {"firmware-entries",
         fmt::format("if firmware keeps entries of its own for p{}, they name it as it was, and "
                     "may not find it {}",
                     b.number,
                     removable ? "afterwards: then choose the disk itself in its menu, which "
                                 "starts 'EFI/BOOT'"
                               : "afterwards; 'EFI/BOOT' has no program either, by which firmware "
                                 "could start the disk without an entry")});
  }
}

}  // namespace

void check_systems_stay(const disk::DiskState& before, const Wishes& wishes, Assessment& out) {
  for (const SystemVolume& v : before.systems.systems) {
    const auto wish = wishes.volumes.find(v.number);
    if (wish == wishes.volumes.end() || !wish->second.kind || !is_fat(*wish->second.kind) ||
        before.find(v.number)->signature.kind != VolumeKind::ntfs)
      continue;
    const auto& files = before.systems.boot_files;
    const bool started = std::any_of(files.begin(), files.end(), [&v](const BootFiles& b) {
      return b.in_force && b.missing.empty() && b.system == v.number;
    });
    if (started) {
      add_obstacle(
          out, "starts-from",
          fmt::format("the system that this disk starts is on p{}, and runs from NTFS only",
                      v.number),
          "Nothing does while it is to start. To hand its files on, have another volume made, "
          "such as g1=fat32, and copy them there",
          0, v.number);
    } else {
      out.consents.push_back({"system", fmt::format("a system is on p{}, and runs from NTFS only: "
                                                    "it can't be started afterwards",
                                                    v.number)});
    }
  }
}

void check_start(const Device& planned, const disk::DiskState& after, const Systems& before,
                 const Wishes& wishes, const ReadOptions& options, Assessment& out) {
  const std::optional<StartWay> way = wishes.boot ? wishes.boot : before.starts();
  if (!way) return;
  const TableReading table = read_table(planned);
  std::vector<Partition> readable;
  for (const SurveyedPartition& s : after.volumes) {
    if (s.volume && s.partition.number != 0) readable.push_back(s.partition);
  }
  const Systems now = boot::find_systems(planned, table, readable, options);
  if (now.starts() == way) {
    if (way == StartWay::uefi && before.starts() == way)
      tell_firmware(before, planned, after, options, out);
    return;
  }
  std::string why = "no boot files are where it looks";
  bool other_first = false;
  for (const BootFiles& b : now.boot_files) {
    if (!b.in_force || b.way != *way) continue;
    why = b.missing;
    other_first = b.store && b.fault.empty() && b.system == 0;
  }
  const char* firmware = firmware_words(*way);
  if (wishes.boot && other_first) {
    out.consents.push_back(
        {"store-first",
         fmt::format("{} finds the boot store, but what that starts first may not be on this disk: "
                     "{}; choose in its menu, or let a system set it",
                     firmware, why)});
    return;
  }
  if (wishes.boot) {
    add_obstacle(out, "boot-way",
                 fmt::format("{} would not find the system afterwards: {}", firmware, why),
                 "Let the system's own repair put its start right, with this disk as it is, then "
                 "ask again");
  }
  if (wishes.boot) return;
  for (const BootFiles& b : before.boot_files) {
    if (b.in_force && b.missing.empty() && another_kind(wishes, b.number))
      why = fmt::format("the boot sector of p{} is not carried over", b.number);
  }
  // Nothing matters more: it is said before everything else.
  const auto said = std::find_if(out.consents.begin(), out.consents.end(),
                                 [](const Consent& c) { return c.code == "firmware"; });
  if (said != out.consents.end()) {
    std::rotate(out.consents.begin(), said, said + 1);
    return;
  }
  out.consents.insert(
      out.consents.begin(),
      {"start", fmt::format("{} starts the system on this disk now, as far as can be seen, and may "
                            "not afterwards: {}",
                            firmware, why)});
}

void plan_starts(const PlanInput& input, const ReadOptions& options, const Renamed& names,
                 Assessment& out) {
  Starts(input, options, names, out).plan();
}

}  // namespace nuvrat::plan

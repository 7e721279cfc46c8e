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
#include "plan/table.h"
#include "plan/volume.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

namespace paths = boot::paths;

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
class Putter {
 public:
  Putter(const PlanInput& in, const Way& way, const Renamed& names)
      : in_(in), asked_(way.asked), boot_(way.boot), names_(names) {}

  PlanPart plan() {
    if (boot_.way) put_boot_files();
    if (boot_.make_efi) count(boot_.make_efi->files);
    if (!boot_.way && names_.any()) follow_stores();
    if (out_.in_reach()) follow_letters();
    if (out_.in_reach() && names_.any()) tell_recovery();
    if (!out_.in_reach()) return std::move(out_);
    for (auto& [id, files] : puts_) put(*in_.state.find(id), std::move(files));
    if (boot_.way && out_.in_reach()) note_boot();
    return std::move(out_);
  }

 private:
  // On an EFI system partition that was there before, or on the active one.
  void put_boot_files() {
    if (place() == PartitionId::none) return;  // they came with the new partition
    const SurveyedPartition* s = in_.state.find(place());
    if (s == nullptr) return;
    if (boot_.way == BootWay::legacy) {
      if (auto step = set_hidden_sectors(in_.device, in_.state.table.layout, *s))
        out_.steps.push_back(std::move(*step));
    }
    auto [files, part] =
        boot_files_for(in_,
                       {.way = *boot_.way,
                        .name = boot::name_of(in_.state.table.layout, s->partition),
                        .there = &s->partition},
                       names_);
    out_.append(std::move(part));
    if (!out_.in_reach()) return;
    leave_out_same(*s, files);
    count(files);
    auto& list = puts_[s->partition.id];
    std::move(files.begin(), files.end(), std::back_inserter(list));
  }

  // The partition that firmware looks at, if it was there.
  [[nodiscard]] PartitionId place() const {
    return boot_.way == BootWay::uefi ? boot_.efi : boot_.legacy_from;
  }

  void note_boot() {
    const SystemVolume& first = in_.state.systems.systems.front();
    BootChange start;
    start.way = *boot_.way;
    start.machine = first.machine;
    const auto number_of = [this](PartitionId id) {
      const SurveyedPartition* s = in_.state.find(id);
      return s == nullptr ? 0u : s->partition.number;
    };
    start.system = number_of(first.partition);
    start.boot_files = number_of(place());
    if (boot_.make_efi) {
      for (const SurveyedPartition& s : in_.state.volumes) {
        if (in_.before.find(s.partition.id) == nullptr &&
            class_of(s.partition.type) == TypeClass::efi_system)
          start.boot_files = s.partition.number;
      }
    }
    tell(start);
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const unsigned number = number_of(b.partition);
      if (!b.in_force || b.way == start.way || number == start.system || number == 0) continue;
      const SurveyedPartition* s = in_.state.find(number);
      const OpenVolume volume(in_, s->partition);
      if (volume.files != nullptr && only_boot_files(*volume.files, b.way)) start.spare = number;
    }
    out_.boot = start;
  }

  void tell(const BootChange& start) {
    const Partition* p = in_.state.table.layout.find(start.boot_files);
    if (p == nullptr) return;
    out_.consent(
        ConsentCode::boot_files, p->id,
        fmt::format("{}{}",
                    boot_.make_efi
                        ? fmt::format("a new EFI system partition of {}, with ",
                                      format_bytes(p->sectors * in_.device.sector_size()))
                    : boot_files_ == 0 ? ""
                                       : "gets ",
                    boot_files_ == 0
                        ? std::string("has the boot files that it needs")
                        : fmt::format("{} ({})", plural(boot_files_, "boot file", "boot files"),
                                      format_bytes(boot_bytes_))),
        fmt::format("{} boots from it. The files come from the system's own folders and from its "
                    "boot store",
                    start.way == BootWay::uefi ? "UEFI" : "Legacy firmware"));
  }

  // Each store goes on naming the partitions that it named.
  void follow_stores() {
    for (const BootFiles& b : in_.state.systems.boot_files) {
      const SurveyedPartition* s = volume_of(b.partition);
      if (s == nullptr || !b.store) continue;
      const OpenVolume volume(in_, s->partition);
      if (volume.files == nullptr) continue;
      const std::string path = real_path(
          *volume.files, b.way == BootWay::uefi ? paths::store_uefi : paths::store_legacy);
      FoundHive hive = open_hive(*volume.files, path, boot::max_store_bytes);
      if (hive.fault.empty()) {
        boot::StoreChange change;
        change.new_name = [this](const boot::PartitionName& old) { return names_(old); };
        boot::ChangedStore changed = boot::change_store(hive.file, change);
        out_.append(tell_odd(changed));
        if (changed.named == 0) continue;
        out_.consent(ConsentCode::store, s->partition.id,
                     "its boot store names partitions as they are called afterwards");
        puts_[s->partition.id].push_back({path, std::move(changed.file), 0, 0});
      } else {
        out_.consent(ConsentCode::store_left, s->partition.id,
                     "its boot store can't be changed: the system won't boot from it", hive.fault);
      }
    }
  }

  // Its forms differ by the system's age, so it is neither read nor changed.
  void tell_recovery() {
    for (const SystemVolume& v : in_.state.systems.systems) {
      const SurveyedPartition* s = volume_of(v.partition);
      if (s == nullptr) continue;
      const OpenVolume volume(in_, s->partition);
      if (volume.files == nullptr || !volume.files->find(paths::recovery)) continue;
      out_.consent(
          ConsentCode::recovery_settings, s->partition.id,
          "its system may have to set up its own repair anew",
          fmt::format("'{}' keeps the place of that repair. It was not looked into, and stays as "
                      "it is",
                      paths::recovery));
    }
  }

  void follow_letters() {
    std::vector<std::pair<char, boot::PartitionName>> wanted;
    for (const LetterGoal& goal : asked_.every<LetterGoal>()) {
      const SurveyedPartition* s = volume_of(in_.before.find(goal.partition)->id);
      if (s != nullptr)
        wanted.emplace_back(goal.letter, boot::name_of(in_.state.table.layout, s->partition));
    }
    if (!wanted.empty() && in_.state.systems.systems.empty()) {
      return out_.obstacle(ObstacleCode::no_system,
                           "no system was found on the disk, and only a system keeps drive letters",
                           "Set it under the system that uses the disk");
    }
    if (wanted.empty() && !names_.any()) return;
    for (const SystemVolume& v : in_.state.systems.systems) {
      const SurveyedPartition* s = volume_of(v.partition);
      if (s == nullptr) continue;
      const OpenVolume volume(in_, s->partition);
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
      out_.consent(ConsentCode::letters, s.partition.id,
                   fmt::format("its system keeps {}",
                               plural(changed.followed, "drive letter", "drive letters")),
                   "Its hive names the partitions as they are called afterwards");
    puts_[s.partition.id].push_back({path, std::move(changed.file), 0, 0});
  }

  bool letters_are_free(const SurveyedPartition& s, const Bytes& hive,
                        const std::vector<std::pair<char, boot::PartitionName>>& wanted) {
    if (wanted.empty()) return true;
    const std::vector<boot::HiveLetter> letters =
        boot::read_letters(boot::Hive(hive, "the system's hive"));
    for (const auto& wish : wanted) {
      const char letter = wish.first;
      const boot::PartitionName& name = wish.second;
      for (const boot::HiveLetter& has : letters) {
        if (has.letter != letter) continue;
        const auto now = has.partition ? names_(*has.partition) : std::nullopt;
        if (now && boot::letter_value(*now) == boot::letter_value(name)) continue;
        const Partition* other = now ? boot::named_by(in_.state.table.layout, *now) : nullptr;
        const bool moves =
            other != nullptr && std::any_of(wanted.begin(), wanted.end(), [&](const auto& w) {
              return w.first != letter && w.second == boot::name_of(in_.state.table.layout, *other);
            });
        if (moves) continue;
        out_.obstacle(
            ObstacleCode::letter_taken,
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
    if (is_goal || boot_.way) {
      out_.obstacle(ObstacleCode::hive, text,
                    "Boot the system once, shut it down (no sleep, no fast start), and ask again",
                    0, s.partition.number);
    } else {
      out_.consent(ConsentCode::letters_left, s.partition.id,
                   "its system may give other drive letters", text);
    }
  }

  // Null: it is to go, or isn't a volume.
  [[nodiscard]] const SurveyedPartition* volume_of(PartitionId id) const {
    const SurveyedPartition* s = in_.state.find(id);
    return s != nullptr && s->volume ? s : nullptr;
  }

  void put(const SurveyedPartition& s, std::vector<tree::PutFile> files) {
    std::vector<ExpectedChange> changes = expected_of(s, files);
    if (changes.empty()) return;  // all of it is there already
    PlanPart part;
    switch (*format_of(s.signature.kind)) {
      case VolumeFormat::fat:
        part = plan_volume_fat(in_, s.partition.number, {.files = std::move(files)});
        break;
      case VolumeFormat::ntfs:
        part = edit(s, std::move(files));
        break;
    }
    if (!part.steps.empty()) part.append({.changes = std::move(changes)});
    out_.append(std::move(part));
  }

  [[nodiscard]] PlanPart edit(const SurveyedPartition& s, std::vector<tree::PutFile> files) const {
    steps::EditNtfs work;
    work.change = change_in_place(s, in_.options);
    work.files = std::move(files);
    PlanPart out;
    try {
      out = lay_out_edit(in_, s, "boot files and letters can't be written", work);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::refused) throw;
      out.obstacle(ObstacleCode::boot_file, e.message(),
                   "Replace the file under the system that owns the volume", 0, s.partition.number);
    }
    if (out.in_reach()) out.steps.push_back(Step(in_.state.table.layout, {std::move(work)}));
    return out;
  }

  // Files that are there as they should be; the others by the names that are there.
  void leave_out_same(const SurveyedPartition& s, std::vector<tree::PutFile>& files) const {
    const OpenVolume volume(in_, s.partition);
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
    const OpenVolume volume(in_, s.partition);
    std::vector<ExpectedChange> out;
    std::set<std::string> folders;
    const auto add = [&](ExpectedChange::Kind kind, const std::string& path) -> ExpectedChange& {
      ExpectedChange& c = out.emplace_back();
      c.kind = kind;
      c.partition = s.partition.id;
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
  const goals::Asked& asked_;
  const BootTarget& boot_;
  const Renamed& names_;
  PlanPart out_;
  std::map<PartitionId, std::vector<tree::PutFile>> puts_;
  std::size_t boot_files_ = 0;  // that are put somewhere, and their bytes
  std::uint64_t boot_bytes_ = 0;
};

}  // namespace

PlanPart plan_boot_files(const PlanInput& input, const Way& way, const Renamed& names) {
  return Putter(input, way, names).plan();
}

}  // namespace nuvrat::plan

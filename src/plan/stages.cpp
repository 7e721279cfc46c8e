// The stages of a plan: what comes before what.

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/boot.h"
#include "plan/plan.h"
#include "plan/planned_disk.h"

namespace nuvrat::plan {
namespace {

// A partition whose volume becomes another kind gets the type that goes with it, unless told.
Wishes with_types(Wishes wishes, const disk::DiskState& before, const disk::DiskState& after,
                  Assessment& out) {
  for (const SurveyedPartition& s : after.volumes) {
    const Partition& p = s.partition;
    const SurveyedPartition* was = before.at(p.start);
    if (p.number == 0 || was == nullptr || was->signature.kind == s.signature.kind) continue;
    const PartitionType type = matching_type(p, s.signature.kind);
    if (type == p.type || !wishes.types.emplace(p.number, type).second) continue;
    out.consents.push_back(
        {"type",
         fmt::format("the type of partition {} becomes {} ({}) instead of {} ({})", p.number,
                     type_text(type), describe(type), type_text(p.type), describe(p.type))});
  }
  return wishes;
}

// Stage by stage, each planned from the disk as the steps before it leave it: kinds of volumes;
// labels; volumes that become shorter; the table; volumes that begin earlier; new partitions in the
// gaps that there are then; volumes that become longer.
class Stages {
 public:
  Stages(const Device& device, disk::DiskState before, const Wishes& wishes,
         const ReadOptions& options, Random& random, Assessment& out)
      : before_(std::move(before)),
        planned_(device, before_),
        wishes_(wishes),
        options_(options),
        random_(random),
        out_(out) {}

  /// Whether figures make sense: nothing is in the way of the volumes.
  bool run() {
    if (!is_nobody_elses(before_, out_)) {
      keep_numbers();
      return false;
    }
    if (changes_volumes() || !wishes_.gone.empty()) add_finding_obstacles(before_, out_);
    check_systems_stay(before_, wishes_, out_);
    const bool fine = volumes() && labels() && sizes();
    if (!fine) {
      keep_numbers();
      return false;
    }
    if (!table()) return true;
    if (!fronts() || !new_partitions() || !longer() || !starts()) return false;
    if (out_.steps.empty()) {
      add_obstacle(out_, "already", "the disk is in this state already",
                   "Nothing needs to be done");
    } else if (wishes_.boot || before_.systems.starts()) {
      check_start(planned_.device(options_), planned_.state(), before_.systems, wishes_, options_,
                  out_);
    }
    return true;
  }

 private:
  [[nodiscard]] bool changes_volumes() const {
    return !wishes_.volumes.empty() || !wishes_.labels.empty() || !wishes_.sizes.empty() ||
           !wishes_.fronts.empty() || wishes_.boot || !wishes_.letters.empty();
  }
  // What later stages read isn't the disk as it is.
  [[nodiscard]] bool needs_overlay() const {
    return !wishes_.labels.empty() || !wishes_.sizes.empty() || !wishes_.fronts.empty() ||
           !wishes_.gaps.empty() || wishes_.boot || !wishes_.letters.empty();
  }
  [[nodiscard]] PlanInput input(const Wishes& wishes) {
    const Device& device = planned_.device(options_);
    return {device, planned_.state(), wishes, random_};
  }
  template <typename Plan>
  bool stage(Plan plan) {
    const std::size_t planned = out_.steps.size();
    const std::size_t changes = out_.changes.size();
    plan();
    if (!out_.in_reach()) return false;
    // They are named by where partitions began before everything.
    for (std::size_t i = changes; i < out_.changes.size(); ++i)
      out_.changes[i].start =
          start_before(out_.changes, out_.changes[i].start).value_or(out_.changes[i].start);
    planned_.add(out_.steps, planned);
    return true;
  }
  void keep_numbers() {
    for (const Partition& p : out_.before.data_partitions())
      out_.numbers.push_back({p.number, p.number});
  }

  // Each from the disk as it is: they don't touch each other.
  bool volumes() {
    const PlanInput in = input(wishes_);
    return stage([&] {
      for (const auto& [number, wish] : wishes_.volumes) {
        if (wish.kind == VolumeKind::ntfs) {
          plan_volume_ntfs(in, options_, number, out_);
        } else {
          plan_volume_fat(in, options_, number, wish, out_);
        }
      }
    });
  }

  bool labels() {
    if (wishes_.labels.empty()) return true;
    const PlanInput in = input(wishes_);
    return stage([&] {
      for (const auto& [number, label] : wishes_.labels)
        plan_volume_label(in, options_, number, label, out_);
    });
  }

  // What becomes shorter now, and what becomes longer when the table has made room.
  bool sizes() {
    of_table_ = with_types(wishes_, before_, planned_.state(), out_);
    if (wishes_.sizes.empty()) return true;
    const PlanInput in = input(wishes_);
    return stage([&] {
      const auto lengths = resolve_sizes(in, options_, out_);
      for (const auto& [number, sectors] : lengths) {
        const SurveyedPartition& s = *in.state.find(number);
        if (number != 0 && sectors != s.partition.sectors) of_table_.lengths[number] = sectors;
        if (sectors < length_of(s)) {
          tell_shorter(s, sectors);
          plan_volume_size(in, options_, number, sectors, out_);
        } else if (sectors > length_of(s)) {
          longer_[s.partition.start] = sectors;
        }
      }
    });
  }

  // Room that was not asked for by name.
  void tell_shorter(const SurveyedPartition& s, std::uint64_t sectors) {
    const std::string subject = part_name(s.partition.number) + ".size";
    const bool asked = std::any_of(out_.goals.begin(), out_.goals.end(),
                                   [&subject](const Goal& g) { return g.subject == subject; });
    if (asked || s.partition.number == 0) return;
    out_.consents.push_back(
        {"shorter",
         fmt::format("partition {} and its volume become {} shorter: there is too little room "
                     "otherwise",
                     s.partition.number,
                     format_bytes((s.partition.sectors - sectors) *
                                  planned_.state().table.layout.sector_size))});
  }

  bool table() {
    const bool only_volumes = changes_volumes() || !wishes_.gaps.empty();
    if (only_volumes && !of_table_.any_of_table()) {
      keep_numbers();
      return true;
    }
    add_losses();
    // What another table or role needs may be the very room that is given up: that comes first.
    if (!of_table_.table && of_table_.roles.empty()) return table_stage(of_table_);
    Wishes less;
    std::swap(less.gone, of_table_.gone);
    for (const auto& [number, sectors] : of_table_.lengths) {
      if (sectors < before_.find(number)->partition.sectors) less.lengths[number] = sectors;
    }
    for (const auto& [number, sectors] : less.lengths) of_table_.lengths.erase(number);
    if (!less.any_of_table()) return table_stage(of_table_);
    if (!table_stage(less)) return false;
    return !of_table_.any_of_table() || table_stage(renumbered(of_table_));
  }

  bool table_stage(const Wishes& wishes) {
    std::vector<Renumbering> so_far = std::move(out_.numbers);
    out_.numbers.clear();
    const Device& device =
        needs_overlay() || !so_far.empty() ? planned_.device(options_) : planned_.device_before();
    const PlanInput in{device, planned_.state(), wishes, random_};
    if (!stage([&] { plan_table(in, out_); })) return false;
    if (so_far.empty()) return true;
    follow_numbers(out_.numbers, so_far);
    out_.numbers = std::move(so_far);
    return true;
  }

  // By the numbers that partitions have once some are gone.
  [[nodiscard]] Wishes renumbered(const Wishes& wishes) const {
    const auto change = [this](auto& map) {
      std::decay_t<decltype(map)> out;
      for (auto& [number, value] : map) {
        const auto* now = planned_.state().at(before_.find(number)->partition.start);
        if (now != nullptr) out.emplace(now->partition.number, value);
      }
      map = std::move(out);
    };
    Wishes out = wishes;
    change(out.roles);
    change(out.active);
    change(out.names);
    change(out.types);
    change(out.lengths);
    out.start_code = wishes.start_code;
    return out;
  }

  // What goes with partitions that are to be gone.
  void add_losses() {
    for (const unsigned number : wishes_.gone) {
      const SurveyedPartition& s = *before_.find(number);
      ExpectedChange change;
      change.kind = ExpectedChange::Kind::gone;
      change.start = s.partition.start;
      out_.changes.push_back(std::move(change));
      for (Contents& c : out_.contents) {
        if (c.start != s.partition.start) continue;
        c.kind_after = "gone";
        c.fate = Contents::Fate::gone;
      }
      out_.consents.push_back({"gone", lost_words(s)});
    }
  }

  std::string lost_words(const SurveyedPartition& s) {
    const std::string what =
        fmt::format("partition {} ({}, {})", s.partition.number,
                    format_bytes(s.partition.sectors * out_.before.sector_size),
                    s.signature.description.empty() ? "unknown contents" : s.signature.description);
    const bool starts = s.partition.active || class_of(s.partition.type) == TypeClass::efi_system;
    const std::string start =
        starts && !wishes_.boot ? "; a computer that starts from it can't do so afterwards" : "";
    const Window window(planned_.device_before(), s.partition.range());
    const bool readable = s.volume && !has_errors(s.findings);
    const auto reader = readable ? open_volume(window, options_) : nullptr;
    if (reader == nullptr)
      return what + " is deleted, with whatever is on it, which can't be listed" + start;
    const FileTree& tree = reader->tree();
    return fmt::format("{}{} is deleted, with {} and {} of contents{}", what,
                       s.volume->label.empty() ? "" : " '" + printable(s.volume->label) + "'",
                       plural(tree.file_count(), "file", "files"), format_bytes(tree.total_bytes()),
                       start);
  }

  // Of a partition that began there and begins there now. None, with an obstacle: another table has
  // no place for it.
  std::optional<unsigned> number_now(std::uint64_t before, std::uint64_t now) {
    if (const SurveyedPartition* s = planned_.state().at(now); s != nullptr)
      return s->partition.number;
    const unsigned number = before_.at(before)->partition.number;
    add_obstacle(out_, "dropped",
                 fmt::format("partition {} has no counterpart in the new table and is dropped: it "
                             "can't become longer",
                             number),
                 "Leave that goal out", 0, number);
    return std::nullopt;
  }

  // Those at the front of the disk first: they may be in the way of none.
  bool fronts() {
    std::string numbers;
    std::map<std::uint64_t, SizeWish> by_start;
    for (const auto& [number, wish] : wishes_.fronts)
      by_start[before_.find(number)->partition.start] = wish;
    for (const auto& [start, more] : by_start) {
      const PlanInput in = input(wishes_);
      const SizeWish& wish = more;
      const auto found = number_now(start, start);
      if (!found) return false;
      const unsigned number = *found;
      if (!stage([&] { plan_front(in, options_, number, wish, out_); })) return false;
      numbers += (numbers.empty() ? "" : ", ") + std::to_string(number);
    }
    if (!numbers.empty() && planned_.state().table.layout.kind == TableKind::mbr)
      out_.consents.push_back(
          {"front-letters",
           fmt::format(
               "on an MBR disk a system names a partition by where it begins: drive letters "
               "({} {}) may become others, and a system that starts from there must be told",
               by_start.size() == 1 ? "partition" : "partitions", numbers)});
    return true;
  }

  bool new_partitions() {
    if (wishes_.gaps.empty() && !wishes_.make_efi) return true;
    if (wishes_.make_efi && !fill_efi()) return false;
    const PlanInput in = input(wishes_);
    return stage([&] { plan_new_partitions(in, options_, out_); });
  }

  // What the table calls everything is known by now.
  bool fill_efi() {
    const PlanInput in = input(wishes_);
    const Layout& layout = in.state.table.layout;
    const Renamed names(before_.table.layout, layout, out_.changes);
    wishes_.make_efi->id = Guid::random(random_);
    boot::PartitionName name;
    name.gpt = true;
    name.partition = wishes_.make_efi->id;
    name.disk = layout.disk_guid;
    wishes_.make_efi->files =
        boot_files_for(in, options_, StartWay::uefi, name, nullptr, names, out_);
    return out_.in_reach();
  }

  // Boot files, stores and drive letters, when everything else is where it is to be.
  bool starts() {
    const Renamed names(before_.table.layout, planned_.state().table.layout, out_.changes);
    if (!wishes_.boot && wishes_.letters.empty() && (!names.any() || before_.systems.nothing()))
      return true;
    const PlanInput in = input(wishes_);
    return stage([&] { plan_starts(in, options_, names, out_); });
  }

  bool longer() {
    for (const auto& [start, sectors] : longer_) {
      const PlanInput in = input(wishes_);
      const std::uint64_t now = start_after(out_.changes, start).value_or(start);
      const auto found = number_now(start, now);
      if (!found) return false;
      const unsigned number = *found;
      const std::uint64_t length = sectors + (start - now);
      if (!stage([&] { plan_volume_size(in, options_, number, length, out_); })) return false;
    }
    return true;
  }

  disk::DiskState before_;
  PlannedDisk planned_;
  Wishes wishes_;
  Wishes of_table_;
  const ReadOptions& options_;
  Random& random_;
  Assessment& out_;
  std::map<std::uint64_t, std::uint64_t> longer_;  // by start, in sectors
};

}  // namespace

bool plan_stages(const Device& device, disk::DiskState before, const Wishes& wishes,
                 const ReadOptions& options, Random& random, Assessment& out) {
  return Stages(device, std::move(before), wishes, options, random, out).run();
}

}  // namespace nuvrat::plan

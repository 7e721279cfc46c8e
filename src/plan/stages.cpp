// The stages of a plan: what comes before what.

#include "plan/stages.h"

#include <utility>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/bystanders.h"
#include "plan/planned_disk.h"
#include "plan/table.h"
#include "plan/volume.h"

namespace nuvrat::plan {
namespace {

// Goals that volumes have to answer, not the table alone.
bool is_about_volumes(GoalStage stage) {
  switch (stage) {
    case GoalStage::volumes:
    case GoalStage::labels:
    case GoalStage::sizes:
    case GoalStage::fronts:
    case GoalStage::boot:
      return true;
    case GoalStage::table:
    case GoalStage::gaps:
      return false;
  }
  return true;
}

// Goals with which the table is planned from the disk as the stages before leave it. Of a volume's
// kind alone it needn't be: what a volume becomes is in its own sectors.
bool needs_planned_disk(GoalStage stage) {
  switch (stage) {
    case GoalStage::labels:
    case GoalStage::sizes:
    case GoalStage::fronts:
    case GoalStage::gaps:
    case GoalStage::boot:
      return true;
    case GoalStage::volumes:
    case GoalStage::table:
      return false;
  }
  return true;
}

// Stage by stage, each planned from the disk as the steps before it leave it: kinds of volumes;
// labels; volumes that become shorter; the table; volumes that begin earlier; new partitions in the
// gaps that there are then; volumes that become longer; boot files.
class Stages {
 public:
  Stages(const PlanInput& in, const goals::Asked& asked, Way way)
      : in_(in), asked_(asked), way_(std::move(way)), planned_(in.device, in.state) {}

  PlanPart run() {
    if (begin() && volumes() && labels() && sizes() && table() && fronts() && new_partitions() &&
        longer() && boot_files())
      finish();
    return std::move(out_);
  }

 private:
  [[nodiscard]] PlanInput input() { return input_on(planned_.device(in_.options)); }
  [[nodiscard]] PlanInput input_on(const Device& device) const {
    return {.device = device,
            .state = planned_.state(),
            .options = in_.options,
            .random = in_.random,
            .before = in_.before,
            .planned = out_,
            .safe_names = way_.asked.find<SafeNamesGoal>() != nullptr};
  }

  // False: it leads nowhere.
  bool take(PlanPart part) {
    const bool fine = part.in_reach();
    if (fine) planned_.add(part.steps);
    out_.append(std::move(part));
    return fine;
  }

  // The partition that a goal names, as it is before everything.
  [[nodiscard]] const Partition& partition(unsigned number) const {
    return in_.state.find(number)->partition;
  }

  bool begin() {
    if (!take(require_nobody_elses(in_.state))) return false;
    if (way_.asked.any(is_about_volumes) || !way_.asked.every<GoneGoal>().empty())
      out_.append({.obstacles = finding_obstacles(in_.state)});
    // The stages are tried all the same: all that is in the way is said at once.
    out_.append(check_systems_stay(in_.state, way_.asked));
    return true;
  }

  // Each from the disk as it is: they don't touch each other.
  bool volumes() {
    const PlanInput in = input();
    std::map<unsigned, FatWish> wishes;
    for (const KindGoal& goal : way_.asked.every<KindGoal>())
      wishes[goal.partition].kind = goal.kind;
    for (const ClusterGoal& goal : way_.asked.every<ClusterGoal>())
      wishes[goal.partition].cluster_bytes = goal.bytes;
    PlanPart part;
    for (const auto& [number, wish] : wishes) part.append(plan_volume(in, number, wish));
    return take(std::move(part)) && out_.in_reach();
  }

  static PlanPart plan_volume(const PlanInput& in, unsigned number, const FatWish& wish) {
    if (!wish.kind) return plan_volume_fat(in, number, wish);
    const auto format = format_of(*wish.kind);
    if (!format)
      throw Error(ErrorCode::words,
                  fmt::format("no volume is made {} by Nuvrat", name_of(*wish.kind)), {},
                  "NTFS, FAT32 and FAT16 can be made");
    switch (*format) {
      case VolumeFormat::fat:
        return plan_volume_fat(in, number, wish);
      case VolumeFormat::ntfs:
        return plan_volume_ntfs(in, number);
    }
    return {};
  }

  bool labels() {
    if (!way_.asked.has(GoalStage::labels)) return true;
    const PlanInput in = input();
    PlanPart part;
    for (const LabelGoal& goal : way_.asked.every<LabelGoal>())
      part.append(plan_volume_label(in, goal.partition, goal.label));
    return take(std::move(part));
  }

  // What becomes shorter now, and what becomes longer when the table has made room.
  bool sizes() {
    table_ = table_wish();
    if (!way_.asked.has(GoalStage::sizes)) return true;
    const PlanInput in = input();
    Lengths lengths = resolve_sizes(in, way_.asked);
    PlanPart part = std::move(lengths.part);
    for (const auto& [id, sectors] : lengths.sectors) {
      const SurveyedPartition& s = *in.state.find(id);
      if (id != PartitionId::none && sectors != s.partition.sectors)
        table_.partitions[id].sectors = sectors;
      if (sectors < length_of(s)) {
        tell_shorter(s, sectors, part);
        part.append(plan_volume_size(in, s.partition.number, sectors));
      } else if (sectors > length_of(s)) {
        longer_[id] = sectors;
      }
    }
    return take(std::move(part));
  }

  // Room that was not asked for by name.
  void tell_shorter(const SurveyedPartition& s, std::uint64_t sectors, PlanPart& part) const {
    const unsigned number = s.partition.number;
    if (asked_.find<SizeGoal>(number) != nullptr || number == 0) return;
    part.consent(
        ConsentCode::shorter, s.partition.id,
        fmt::format("it and its volume become {} shorter",
                    format_bytes((s.partition.sectors - sectors) * in_.before.sector_size)),
        "There is too little room otherwise");
  }

  // What the goals say of the table, but lengths.
  [[nodiscard]] TableWish table_wish() {
    TableWish out;
    if (const auto* table = way_.asked.find<TableGoal>()) out.kind = table->kind;
    for (const RoleGoal& goal : way_.asked.every<RoleGoal>())
      out.partitions[partition(goal.partition).id].role = goal.role;
    for (const ActiveGoal& goal : way_.asked.every<ActiveGoal>())
      out.partitions[partition(goal.partition).id].active = goal.yes;
    for (const NameGoal& goal : way_.asked.every<NameGoal>())
      out.partitions[partition(goal.partition).id].name = goal.name;
    for (const GoneGoal& goal : way_.asked.every<GoneGoal>())
      out.partitions[partition(goal.partition).id].gone = true;
    for (const TypeGoal& goal : way_.asked.every<TypeGoal>()) {
      const SurveyedPartition& s = *in_.state.find(goal.partition);
      out.partitions[s.partition.id].type = matching_type(s.partition, s.signature.kind);
    }
    out.start_code = way_.boot.start_code;
    follow_kinds(out);
    return out;
  }

  // A partition whose volume becomes another kind gets the type that goes with it, unless told.
  void follow_kinds(TableWish& wish) {
    for (const SurveyedPartition& s : planned_.state().volumes) {
      const Partition& p = s.partition;
      const SurveyedPartition* was = in_.state.find(p.id);
      if (p.number == 0 || was == nullptr || was->signature.kind == s.signature.kind) continue;
      const PartitionType type = matching_type(p, s.signature.kind);
      if (type == p.type || wish.partitions[p.id].type) continue;
      wish.partitions[p.id].type = type;
      out_.consent(ConsentCode::type, p.id,
                   fmt::format("its type becomes {} ({})", type_text(type), describe(type)),
                   fmt::format("It is {} ({}) now", type_text(p.type), describe(p.type)));
    }
  }

  bool table() {
    const bool of_others = way_.asked.any(is_about_volumes) || way_.asked.has(GoalStage::gaps);
    if (of_others && table_.empty()) return true;
    for (const GoneGoal& goal : way_.asked.every<GoneGoal>())
      tell_lost(*in_.state.find(goal.partition));
    // What another table or role needs may be the very room that is given up: that comes first.
    if (!table_.kind && table_.roles().empty()) return take(plan_table(table_input(), table_));
    TableWish less;
    for (auto& [id, wish] : table_.partitions) {
      const bool shorter = wish.sectors && *wish.sectors < in_.state.find(id)->partition.sectors;
      if (wish.gone) less.partitions[id].gone = std::exchange(wish.gone, false);
      if (shorter) less.partitions[id].sectors = std::exchange(wish.sectors, std::nullopt);
    }
    std::erase_if(table_.partitions, [](const auto& p) { return p.second == PartitionWish{}; });
    if (less.empty()) return take(plan_table(table_input(), table_));
    if (!take(plan_table(table_input(), less))) return false;
    std::erase_if(table_.partitions,
                  [this](const auto& p) { return planned_.state().find(p.first) == nullptr; });
    return table_.empty() || take(plan_table(input(), table_));
  }

  [[nodiscard]] PlanInput table_input() {
    return way_.asked.any(needs_planned_disk) ? input() : input_on(planned_.device_before());
  }

  // A partition that is to be gone, and all that goes with it.
  void tell_lost(const SurveyedPartition& s) {
    ExpectedChange change;
    change.kind = ExpectedChange::Kind::gone;
    change.partition = s.partition.id;
    out_.changes.push_back(std::move(change));
    const bool boots = s.partition.active || class_of(s.partition.type) == TypeClass::efi_system;
    out_.consent(
        ConsentCode::gone, s.partition.id, lost_words(s),
        boots && !way_.boot.way ? "A computer that boots from it can't do so afterwards" : "");
  }

  [[nodiscard]] std::string lost_words(const SurveyedPartition& s) const {
    const std::string what =
        fmt::format("({}, {})", format_bytes(s.partition.sectors * in_.before.sector_size),
                    s.signature.description.empty() ? "unknown contents" : s.signature.description);
    const Window window(in_.device, s.partition.range());
    const bool readable = s.volume && !has_errors(s.findings);
    const auto reader = readable ? open_volume(window, in_.options) : nullptr;
    if (reader == nullptr) return what + " is deleted, with all that is on it";
    const FileTree& tree = reader->tree();
    return fmt::format("{}{} is deleted with {}, {}",
                       s.volume->label.empty() ? "" : "'" + printable(s.volume->label) + "' ", what,
                       plural(tree.file_count(), "file", "files"),
                       format_bytes(tree.total_bytes()));
  }

  // None, with an obstacle: another table has no place for it.
  std::optional<Partition> partition_now(PartitionId id) {
    if (const SurveyedPartition* s = planned_.state().find(id); s != nullptr) return s->partition;
    const unsigned number = in_.state.find(id)->partition.number;
    out_.obstacle(ObstacleCode::dropped,
                  fmt::format("partition {} has no counterpart in the new table and is dropped: it "
                              "can't become longer",
                              number),
                  "Leave that goal out", 0, number);
    return std::nullopt;
  }

  // Those at the front of the disk first: they may be in the way of none.
  bool fronts() {
    std::string numbers;
    std::map<PartitionId, FrontGoal> in_disk_order;
    for (const FrontGoal& goal : way_.asked.every<FrontGoal>())
      in_disk_order[partition(goal.partition).id] = goal;
    for (const auto& [id, goal] : in_disk_order) {
      const auto now = partition_now(id);
      if (!now || !take(plan_front(input(), now->number, goal.bytes))) return false;
      numbers += (numbers.empty() ? "" : ", ") + part_name(now->number);
    }
    if (!numbers.empty() && planned_.state().table.layout.kind == TableKind::mbr)
      out_.consent(
          ConsentCode::front_letters, PartitionId::none,
          fmt::format("drive letters may become others ({})", numbers),
          "On an MBR disk a system names a partition by its start. A system that boots from there "
          "must be told");
    return true;
  }

  bool new_partitions() {
    std::optional<NewEfi>& efi = way_.boot.make_efi;
    if (!way_.asked.has(GoalStage::gaps) && !efi) return true;
    const PlanInput in = input();
    PlanPart part;
    if (efi) {  // what the table calls everything is known by now
      const Layout& layout = in.state.table.layout;
      const Renamed names(in_.before, layout);
      efi->id = Guid::random(in_.random);
      BootPlace place;
      place.name.gpt = true;
      place.name.partition = efi->id;
      place.name.disk = layout.disk_guid;
      BootFileSet set = boot_files_for(in, place, names);
      efi->files = std::move(set.files);
      part = std::move(set.part);
    }
    if (part.in_reach()) part.append(plan_new_partitions(in, way_.asked, efi ? &*efi : nullptr));
    return take(std::move(part));
  }

  bool longer() {
    for (const auto& [id, sectors] : longer_) {
      const auto now = partition_now(id);
      if (!now) return false;
      const std::uint64_t earlier = in_.state.find(id)->partition.start - now->start;
      if (!take(plan_volume_size(input(), now->number, sectors + earlier))) return false;
    }
    return true;
  }

  // Boot files, stores and drive letters, when everything else is where it is to be.
  bool boot_files() {
    const Renamed names(in_.before, planned_.state().table.layout);
    if (!way_.asked.has(GoalStage::boot) && (!names.any() || in_.state.systems.nothing()))
      return true;
    return take(plan_boot_files(input(), way_, names));
  }

  void finish() {
    if (out_.steps.empty()) {
      out_.obstacle(ObstacleCode::already, "the disk is in this state already",
                    "Nothing needs to be done");
      return;
    }
    PlanPart boots;
    if (way_.boot.way || in_.state.systems.boots_by())
      boots = check_boots(input(), in_.state.systems, way_.asked);
    // That it may not boot at all says more than what firmware it takes.
    if (boots.consents.empty() || boots.consents.front().code != ConsentCode::start)
      out_.append(tell_other_table(in_.state, planned_.state().table.layout, way_.boot.way));
    take(std::move(boots));
  }

  const PlanInput& in_;  // the disk as it is
  const goals::Asked& asked_;
  Way way_;
  PlannedDisk planned_;
  TableWish table_;
  PlanPart out_;
  std::map<PartitionId, std::uint64_t> longer_;  // in sectors
};

}  // namespace

PlanPart plan_stages(const PlanInput& input, const goals::Asked& asked, const Way& way) {
  return Stages(input, asked, way).run();
}

}  // namespace nuvrat::plan

// table=gpt: an MBR becomes a GPT, every partition where it is.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/table.h"

namespace nuvrat::plan {
namespace {

class GptPlanner {
 public:
  GptPlanner(const PlanInput& input, const TableWish& wish)
      : in_(input), device_(input.device), state_(input.state), wish_(wish) {}

  PlanPart plan() {
    const Layout& before = state_.table.layout;
    if (state_.bare_volume || before.kind == TableKind::none) {
      obstacle(ObstacleCode::no_table,
               state_.bare_volume ? "the disk is one volume without a partition table"
                                  : "there is no partition table that could become a GPT",
               "Name a disk with an MBR", 0);
    }
    if (before.kind == TableKind::gpt) {
      obstacle(ObstacleCode::gpt_already, "the disk has a GPT already", "Nothing needs to be done",
               0);
    }
    out_.append({.obstacles = finding_obstacles(state_)});
    if (before.kind != TableKind::mbr) return std::move(out_);
    make_target();
    if (room_is_there()) {
      out_.append(require_room_for_gpt(target_));
      check_ebrs();
      add_consents();
    }
    if (out_.in_reach()) out_.append(table_steps(in_, {.layout = target_}));
    return std::move(out_);
  }

 private:
  void obstacle(ObstacleCode code, std::string text, std::string remedy, std::uint64_t missing,
                unsigned partition = 0) {
    out_.obstacle(code, std::move(text), std::move(remedy), missing, partition);
  }

  bool room_is_there() {
    const std::uint64_t tables = 2 * gpt_array_sectors(device_.sector_size()) + 3;
    if (device_.sectors() > tables) return true;
    obstacle(ObstacleCode::disk_too_small,
             fmt::format("a GPT with both copies takes {} sectors, the disk has {}", tables,
                         device_.sectors()),
             "A GPT does not fit on this disk", tables + 1 - device_.sectors());
    return false;
  }

  void make_target() {
    const Layout& before = state_.table.layout;
    target_.kind = TableKind::gpt;
    target_.sector_size = before.sector_size;
    target_.disk_sectors = before.disk_sectors;
    target_.disk_guid = Guid::random(in_.random);
    const std::uint64_t array = gpt_array_sectors(before.sector_size);
    target_.first_usable = 2 + array;
    target_.last_usable = before.disk_sectors > array + 2 ? before.disk_sectors - array - 2 : 0;
    for (const SurveyedPartition& s : state_.volumes) {
      if (s.partition.role != Role::extended) target_.partitions.push_back(convert(s));
    }
    apply_small_wishes(wish_, target_);
    target_.sort();
  }

  Partition convert(const SurveyedPartition& s) {
    Partition p = s.partition;
    const auto type = gpt_type_for(std::get<std::uint8_t>(p.type), s.signature.kind);
    p.role = Role::gpt;
    p.type = type.guid;
    p.attributes = type.attributes | (p.active ? gpt_legacy_bootable : 0);
    p.unique_id = remember_type(std::get<std::uint8_t>(s.partition.type), in_.random);
    p.table_sector.reset();
    if (s.volume) p.name = s.volume->label;
    return p;
  }

  // A chain may have a link where the GPT must go.
  void check_ebrs() {
    for (const SectorRange& area : gpt_areas()) {
      const auto hit = state_.table.owned.first_overlap(area);
      if (!hit) continue;
      obstacle(ObstacleCode::ebr_in_the_way,
               fmt::format("the EBR at sector {} is where the GPT must go ({})", hit->first,
                           area.text()),
               "Make the logical partitions primary first, or move the first of them", hit->count);
    }
  }

  [[nodiscard]] std::vector<SectorRange> gpt_areas() const {
    return {{1, target_.first_usable - 1},
            {target_.last_usable + 1, device_.sectors() - 1 - target_.last_usable}};
  }

  void add_consents() {
    for (const Partition& p : target_.partitions) {
      if (!p.active) continue;
      out_.consent(ConsentCode::active, p.id,
                   "its active flag becomes the legacy-bootable attribute",
                   "A GPT has no active flag");
    }
    for (const SurveyedPartition& s : state_.volumes) {
      if (s.partition.role == Role::extended) continue;
      const auto byte = std::get<std::uint8_t>(s.partition.type);
      if (!gpt_type_for(byte, s.signature.kind).carried) continue;
      out_.consent(ConsentCode::type_carried, s.partition.id,
                   fmt::format("its type {:02X} ({}) is kept inside a GPT type", byte,
                               describe(s.partition.type)),
                   "No GPT type stands for it");
    }
  }

  const PlanInput& in_;
  const Device& device_;
  const disk::DiskState& state_;
  const TableWish& wish_;
  PlanPart out_;
  Layout target_;
};

}  // namespace

PlanPart plan_table_gpt(const PlanInput& input, const TableWish& wish) {
  return GptPlanner(input, wish).plan();
}

}  // namespace nuvrat::plan

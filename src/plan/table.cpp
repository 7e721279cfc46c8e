#include "plan/table.h"

#include <algorithm>

namespace nuvrat::plan {

bool TableWish::only_kind() const {
  TableWish rest = *this;
  rest.kind.reset();
  return rest.empty();
}

bool TableWish::is_gone(PartitionId id) const {
  const auto it = partitions.find(id);
  return it != partitions.end() && it->second.gone;
}

std::map<PartitionId, Role> TableWish::roles() const {
  std::map<PartitionId, Role> out;
  for (const auto& [id, wish] : partitions) {
    if (wish.role) out.emplace(id, *wish.role);
  }
  return out;
}

void apply_room(const TableWish& wish, std::vector<Partition>& partitions) {
  std::erase_if(partitions, [&wish](const Partition& p) {
    return p.role != Role::extended && wish.is_gone(p.id);
  });
  for (Partition& p : partitions) {
    const auto it = wish.partitions.find(p.id);
    if (p.role == Role::extended || it == wish.partitions.end()) continue;
    const PartitionWish& wanted = it->second;
    if (wanted.sectors) p.sectors = *wanted.sectors;
    if (wanted.start) {
      p.sectors = p.range().end() - *wanted.start;
      p.start = *wanted.start;
    }
  }
}

void apply_small_wishes(const TableWish& wish, Layout& layout) {
  apply_room(wish, layout.partitions);
  for (const auto& [id, wanted] : wish.partitions) {
    if (!wanted.active) continue;
    for (Partition& p : layout.partitions) {
      if (p.id == id)
        p.active = *wanted.active;
      else if (*wanted.active)
        p.active = false;
    }
  }
  for (Partition& p : layout.partitions) {
    if (p.role == Role::gpt) {
      p.attributes =
          p.active ? p.attributes | gpt_legacy_bootable : p.attributes & ~gpt_legacy_bootable;
    }
    const auto it = wish.partitions.find(p.id);
    if (it == wish.partitions.end()) continue;
    const PartitionWish& wanted = it->second;
    if (wanted.type && wanted.type->index() == p.type.index()) p.type = *wanted.type;
    if (wanted.name) p.name = *wanted.name;
  }
}

PlanPart plan_table(const PlanInput& input, const TableWish& wish) {
  const TableKind before = input.state.table.layout.kind;
  const bool no_table = input.state.bare_volume || before == TableKind::none;
  const bool to_gpt = wish.kind == TableKind::gpt && (wish.only_kind() || before == TableKind::mbr);
  if (no_table || to_gpt) return plan_table_gpt(input, wish);
  if (wish.kind == TableKind::mbr || before == TableKind::mbr) return plan_table_mbr(input, wish);
  return plan_gpt_change(input, wish);
}

}  // namespace nuvrat::plan

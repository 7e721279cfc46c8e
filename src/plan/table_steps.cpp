// From the table that there is to the layout that is wanted.

#include "plan/table.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

PlanPart mbr_to_gpt(const PlanInput& in, const Layout& target) {
  SectorSet links = in.state.table.owned;  // of an MBR: LBA 0 and every link of the chain
  links.remove({0, 1});
  // What a partition has grown over is its volume's affair from now on.
  for (const Partition& p : target.partitions) links.remove(p.range());
  PlanPart out;
  out.after = target;
  out.steps.push_back(Step(target, {steps::TableGpt{links.ranges(), in.state.table.sector0}}));
  out.append({.steps = follow_hidden_sectors(in, target)});
  return out;
}

}  // namespace

PlanPart table_steps(const PlanInput& input, const TableTarget& target) {
  if (target.layout.kind == TableKind::mbr) return mbr_steps(input, target);
  if (input.state.table.layout.kind == TableKind::mbr) return mbr_to_gpt(input, target.layout);
  return gpt_change_steps(input, target.layout);
}

}  // namespace nuvrat::plan

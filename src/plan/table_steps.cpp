// From the table that there is to the layout that is wanted.

#include "plan/plan.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

void add_mbr_to_gpt(const PlanInput& in, const Layout& target, Assessment& out) {
  SectorSet links = in.state.table.owned;  // of an MBR: LBA 0 and every link of the chain
  links.remove({0, 1});
  // What a partition has grown over is its volume's affair from now on.
  for (const Partition& p : target.partitions) links.remove(p.range());
  out.after = target;
  out.steps.push_back(Step(target, {steps::TableGpt{links.ranges(), in.state.table.sector0}}));
  follow_hidden_sectors(in, target, out);
}

}  // namespace

void add_table_steps(const PlanInput& input, const Layout& target, bool new_chain,
                     Assessment& out) {
  if (target.kind == TableKind::mbr) {
    add_mbr_steps(input, target, new_chain, out);
  } else if (input.state.table.layout.kind == TableKind::mbr) {
    add_mbr_to_gpt(input, target, out);
  } else {
    add_gpt_change_steps(input, target, out);
  }
}

}  // namespace nuvrat::plan

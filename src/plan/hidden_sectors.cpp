// A volume's boot sector holds where the volume begins: it follows when a table's change makes it
// wrong.

#include <algorithm>

#include "plan/plan.h"
#include "steps/kinds.h"
#include "volume/kinds.h"

namespace nuvrat::plan {

void set_start(const Device& device, const Layout& layout, const SurveyedPartition& s,
               Assessment& out) {
  const Partition& p = s.partition;
  if (volume::row_of(s.signature.kind) == nullptr || p.start > 0xFFFFFFFF) return;
  steps::BootSector work{p.start, device.read(p.start), {}};
  const auto hidden = volume::hidden_sectors_of(work.sector);
  if (!hidden || *hidden == p.start) return;
  const Window volume(device, p.range());
  for (const std::uint64_t at : volume::equal_boot_copies(volume, s.signature.kind, work.sector))
    work.copies.push_back(p.start + at);
  volume::set_hidden_sectors(work.sector, static_cast<std::uint32_t>(p.start));
  out.steps.push_back(Step(layout, {std::move(work)}));
}

void follow_hidden_sectors(const PlanInput& in, const Layout& after, Assessment& out) {
  for (const SurveyedPartition& s : in.state.volumes) {
    const Partition& p = s.partition;
    const bool has_field = volume::row_of(s.signature.kind) != nullptr;
    const auto now = std::find_if(
        after.partitions.begin(), after.partitions.end(),
        [&p](const Partition& t) { return t.start == p.start && t.role != Role::extended; });
    // A volume that a step before this one makes anew is made with the right one.
    const bool made = std::any_of(out.steps.begin(), out.steps.end(), [&p](const Step& step) {
      return step.volume() != nullptr && step.volume()->anew &&
             step.volume()->place.first == p.start;
    });
    if (!has_field || made || now == after.partitions.end() || p.start > 0xFFFFFFFF) continue;
    const auto hidden = volume::hidden_sectors_of(in.device.read(p.start));
    // Wrong before is not this change's affair, unless legacy start will go by it now.
    const bool ours = volume::hidden_sectors_fit(hidden, p) || now->active ||
                      (now->role != p.role && now->role != Role::gpt);
    if (!volume::hidden_sectors_fit(hidden, *now) && ours) set_start(in.device, after, s, out);
  }
}

}  // namespace nuvrat::plan

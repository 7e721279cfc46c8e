// A volume's boot sector holds where the volume begins: it follows when a table's change makes it
// wrong.

#include <algorithm>

#include "plan/plan.h"
#include "steps/kinds.h"
#include "volume/kinds.h"

namespace nuvrat {
namespace {

// Counted from the disk's first sector; of a logical, by old systems, from its EBR.
bool is_right(std::uint64_t hidden, const Partition& p) {
  return hidden == p.start ||
         (p.role == Role::logical && p.table_sector && hidden == p.start - *p.table_sector);
}

}  // namespace

void follow_hidden_sectors(const PlanInput& in, const Layout& after, Assessment& out) {
  for (const SurveyedPartition& s : in.state.volumes) {
    const Partition& p = s.partition;
    const bool has_field = row_of(s.signature.kind) != nullptr;
    const auto now = std::find_if(
        after.partitions.begin(), after.partitions.end(),
        [&p](const Partition& t) { return t.start == p.start && t.role != Role::extended; });
    // A volume that a step before this one makes anew is made with the right one.
    const bool made = std::any_of(out.steps.begin(), out.steps.end(), [&p](const Step& step) {
      return step.volume() != nullptr && step.volume()->anew &&
             step.volume()->place.first == p.start;
    });
    if (!has_field || made || now == after.partitions.end() || p.start > 0xFFFFFFFF) continue;
    steps::BootSector work{p.start, in.device.read(p.start), {}};
    const std::uint64_t hidden = hidden_sectors_of(work.sector);
    // Wrong before is not this change's affair, unless legacy start will go by it now.
    const bool ours = is_right(hidden, p) || (now->role != p.role && now->role != Role::gpt);
    if (is_right(hidden, *now) || !ours) continue;
    const Window volume(in.device, p.range());
    for (const std::uint64_t at : equal_boot_copies(volume, s.signature.kind, work.sector))
      work.copies.push_back(p.start + at);
    set_hidden_sectors(work.sector, static_cast<std::uint32_t>(p.start));
    out.steps.push_back(Step(after, {std::move(work)}));
  }
}

}  // namespace nuvrat

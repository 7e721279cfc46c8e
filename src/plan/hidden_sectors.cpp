// A volume's boot sector holds where the volume begins: it follows when a table's change makes it
// wrong.

#include <algorithm>

#include "plan/table.h"
#include "steps/kinds.h"
#include "volume/kinds.h"

namespace nuvrat::plan {

std::optional<Step> set_hidden_sectors(const Device& device, const Layout& layout,
                                       const SurveyedPartition& s) {
  const Partition& p = s.partition;
  if (volume::row_of(s.signature.kind) == nullptr || p.start > 0xFFFFFFFF) return std::nullopt;
  steps::BootSector work{p.start, device.read(p.start), {}};
  const auto hidden = volume::hidden_sectors_of(work.sector);
  if (!hidden || *hidden == p.start) return std::nullopt;
  const Window volume(device, p.range());
  for (const std::uint64_t at : volume::equal_boot_copies(volume, s.signature.kind, work.sector))
    work.copies.push_back(p.start + at);
  volume::set_hidden_sectors(work.sector, static_cast<std::uint32_t>(p.start));
  return Step(layout, {std::move(work)});
}

std::vector<Step> follow_hidden_sectors(const PlanInput& in, const Layout& after) {
  std::vector<Step> out;
  for (const SurveyedPartition& s : in.state.volumes) {
    const Partition& p = s.partition;
    const bool has_field = volume::row_of(s.signature.kind) != nullptr;
    const auto now = std::find_if(
        after.partitions.begin(), after.partitions.end(),
        [&p](const Partition& t) { return t.start == p.start && t.role != Role::extended; });
    // A volume that a step before this one makes anew is made with the right one.
    const bool made =
        std::any_of(in.planned.steps.begin(), in.planned.steps.end(), [&p](const Step& step) {
          return step.volume() != nullptr && step.volume()->anew &&
                 step.volume()->place.first == p.start;
        });
    if (!has_field || made || now == after.partitions.end() || p.start > 0xFFFFFFFF) continue;
    const auto hidden = volume::hidden_sectors_of(in.device.read(p.start));
    // Wrong before is not this change's affair, unless legacy start will go by it now.
    const bool ours = volume::hidden_sectors_fit(hidden, p) || now->active ||
                      (now->role != p.role && now->role != Role::gpt);
    if (volume::hidden_sectors_fit(hidden, *now) || !ours) continue;
    if (auto step = set_hidden_sectors(in.device, after, s)) out.push_back(std::move(*step));
  }
  return out;
}

}  // namespace nuvrat::plan

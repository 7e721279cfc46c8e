// check --repair for tables: what can be mended with nothing lost.

#include "plan/repair.h"

#include <algorithm>

#include "plan/bystanders.h"
#include "plan/planned_disk.h"
#include "plan/stages.h"
#include "plan/table.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

bool is_gpt_damage(const Finding& f) {
  return f.repairable &&
         (f.code == Rule::gpt_primary_damaged || f.code == Rule::gpt_backup_damaged ||
          f.code == Rule::gpt_backup_not_last || f.code == Rule::gpt_protective_missing ||
          f.code == Rule::gpt_protective_entry);
}

// First boot sectors say where they are, then what is a copy of them is mended. Where one is lost
// nothing else is mended before it is there again.
PlanPart mend_volumes(const PlanInput& in, const Survey& survey, Unowned unowned) {
  PlanPart out;
  PlannedDisk planned(in.device, in.state);
  std::set<PartitionId> lost;
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    PlanPart mend = plan_copy_mend(in, s);
    if (!mend.steps.empty()) lost.insert(s.partition.id);
    out.append(std::move(mend));
  }
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role != Role::extended && lost.contains(s.partition.id)) continue;
    const Finding* start = find_code(s.findings, Rule::volume_hidden_sectors);
    if (start == nullptr || !start->repairable || s.beyond_mending()) continue;
    if (auto step = set_hidden_sectors(in.device, in.before, s))
      out.steps.push_back(std::move(*step));
  }
  planned.add(out.steps);
  const Device& mended = planned.device(in.options);
  out.append(plan_fat_mends(in.on(mended, planned.state()), survey, unowned, lost));
  return out;
}

// Both copies where they belong, out of the good one's entries; the protective MBR, with its boot
// code. What is good is not touched, where its form allows that.
PlanPart mend_gpt(const PlanInput& in) {
  PlanPart out;
  const Device& device = in.device;
  const TableReading& table = in.state.table;
  const auto is_found = [&table](Rule code) { return find_code(table.findings, code) != nullptr; };
  steps::GptMend work;
  work.sector0 = table.sector0;
  work.primary = is_found(Rule::gpt_primary_damaged);
  work.backup =
      !work.primary && (is_found(Rule::gpt_backup_damaged) || is_found(Rule::gpt_backup_not_last));
  Layout target = table.layout;
  const std::uint64_t array = gpt_array_sectors(target.sector_size);
  if (work.primary || work.backup) {
    target.last_usable = device.sectors() - array - 2;
    target.first_usable = gpt_first_usable(target.sector_size);
  }
  if (work.primary || work.backup) out.append(require_room_for_gpt(target));
  if (!out.in_reach()) return out;
  // LBA 1 is written anew, and names entries at LBA 2: where they have another form, or are
  // elsewhere, they are written beside the good ones first.
  if (work.backup && device.read(2, array) != build_gpt(target).array.data) {
    target.first_usable = table.layout.usable().first;
    out.append(gpt_change_steps(in, target));
    work.backup = false;
    if (!is_found(Rule::gpt_protective_missing) && !is_found(Rule::gpt_protective_entry))
      return out;
  }
  out.after = target;
  if (out.in_reach()) out.steps.push_back(Step(target, {std::move(work)}));
  return out;
}

}  // namespace

}  // namespace nuvrat::plan

namespace nuvrat {
using namespace plan;

Assessment assess_repair(const Device& device, const ReadOptions& options, Unowned unowned) {
  const Survey survey = survey_disk(device, options, true);
  const Assessment before = start_assessment(survey);
  const disk::DiskState state(survey);
  PlanPart out{.obstacles = find_asleep(device, survey, options)};
  if (out.in_reach()) out.append(require_nobody_elses(state));
  if (!out.in_reach()) return with(before, std::move(out));
  bool mend = false;
  bool chain = false;
  for (const Finding& f : survey.table.findings) {
    if (is_gpt_damage(f)) {
      mend = true;
    } else if (f.repairable &&
               (f.code == Rule::ebr_link_outside || f.code == Rule::ebr_partition_outside)) {
      chain = true;
    } else if (f.severity == Severity::error) {
      out.obstacle(ObstacleCode::damaged, f.text, "A person must decide; Nuvrat doesn't guess");
      out.obstacles.back().finding = f.code;
    }
  }
  if (!out.in_reach()) return with(before, std::move(out));
  Random random;
  const PlanPart nothing;
  const PlanInput in{device, state, options, random, before.before, nothing};
  out.append(chain  ? plan_chain_repair(in)
             : mend ? mend_gpt(in)
                    : mend_volumes(in, survey, unowned));
  if (out.steps.empty()) return with(before, std::move(out));
  return with_figures(before, std::move(out), device, survey, measure_pace(device, survey));
}

}  // namespace nuvrat

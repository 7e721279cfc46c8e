// check --repair for tables: what can be mended with nothing lost.

#include <algorithm>

#include "plan/plan.h"
#include "plan/planned_disk.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

bool is_gpt_damage(const Finding& f) {
  return f.repairable && (f.code == "gpt.primary-damaged" || f.code == "gpt.backup-damaged" ||
                          f.code == "gpt.backup-not-last" || f.code == "gpt.protective-missing" ||
                          f.code == "gpt.protective-entry");
}

// First boot sectors say where they are, then what is a copy of them is mended. Where one is lost
// nothing else is mended before it is there again.
void mend_volumes(const Device& device, const Survey& survey, const ReadOptions& options,
                  Unowned unowned, Assessment& out) {
  PlannedDisk planned(device, disk::DiskState(survey));
  std::set<std::uint64_t> lost;
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    if (plan_copy_mend(device, s, options, out)) lost.insert(s.partition.start);
  }
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role != Role::extended && lost.contains(s.partition.start)) continue;
    const Finding* start = find_code(s.findings, "volume.hidden-sectors");
    if (start != nullptr && start->repairable && !s.beyond_mending())
      set_start(device, out.before, s, out);
  }
  planned.add(out.steps, 0);
  plan_fat_mends(planned.device(options), survey, options, unowned, lost, out);
}

// Both copies where they belong, out of the good one's entries; the protective MBR, with its boot
// code. What is good is not touched, where its form allows that.
void mend_gpt(const Device& device, const disk::DiskState& state, Assessment& out) {
  const TableReading& table = state.table;
  const auto is_found = [&table](const char* code) {
    return find_code(table.findings, code) != nullptr;
  };
  steps::GptMend work;
  work.sector0 = table.sector0;
  work.primary = is_found("gpt.primary-damaged");
  work.backup =
      !work.primary && (is_found("gpt.backup-damaged") || is_found("gpt.backup-not-last"));
  Layout target = table.layout;
  const std::uint64_t array = gpt_array_sectors(target.sector_size);
  if (work.primary || work.backup) {
    target.last_usable = device.sectors() - array - 2;
    target.first_usable = gpt_first_usable(target.sector_size);
  }
  if (work.primary || work.backup) require_room_for_gpt(target, out);
  if (!out.in_reach()) return;
  // LBA 1 is written anew, and names entries at LBA 2: where they have another form, or are
  // elsewhere, they are written beside the good ones first.
  if (work.backup && device.read(2, array) != build_gpt(target).array.data) {
    Random random;
    const Wishes nothing;
    target.first_usable = table.layout.usable().first;
    add_gpt_change_steps({device, state, nothing, random}, target, out);
    work.backup = false;
    if (!is_found("gpt.protective-missing") && !is_found("gpt.protective-entry")) return;
  }
  out.after = target;
  if (out.in_reach()) out.steps.push_back(Step(target, {std::move(work)}));
}

}  // namespace

}  // namespace nuvrat::plan

namespace nuvrat {
using namespace plan;

Assessment assess_repair(const Device& device, const ReadOptions& options, Unowned unowned) {
  const Survey survey = survey_disk(device, options, true);
  Assessment out = start_assessment(survey);
  const disk::DiskState state(survey);
  out.obstacles = find_asleep(device, survey, options);
  if (!out.in_reach() || !is_nobody_elses(state, out)) return out;
  bool mend = false;
  bool chain = false;
  for (const Finding& f : survey.table.findings) {
    if (is_gpt_damage(f)) {
      mend = true;
    } else if (f.repairable &&
               (f.code == "ebr.link-outside" || f.code == "ebr.partition-outside")) {
      chain = true;
    } else if (f.severity == Severity::error) {
      add_obstacle(out, f.code, f.text, "A person must decide; nothing is guessed");
    }
  }
  if (!out.obstacles.empty()) return out;
  for (const Partition& p : out.before.data_partitions()) {
    if (!chain) out.numbers.push_back({p.number, p.number});  // a new chain may give others
  }
  if (chain) {
    Random random;
    const Wishes nothing;
    plan_table_mbr({device, state, nothing, random}, out, true);
  } else if (mend) {
    mend_gpt(device, state, out);
  } else {
    mend_volumes(device, survey, options, unowned, out);
  }
  if (out.in_reach() && !out.steps.empty())
    fill_figures(device, survey, measure_pace(device, survey), out);
  return out;
}

}  // namespace nuvrat

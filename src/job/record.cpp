// A case folder read again as a whole.

#include <filesystem>

#include <fmt/core.h>

#include <nuvrat/case_record.h>
#include <nuvrat/error.h>

#include "job/case.h"
#include "job/left_behind.h"
#include "job/recover.h"
#include "job/steps.h"

namespace nuvrat::job {
namespace {

bool put_back_by_itself(const std::vector<CaseEvent>& events) {
  bool out = false;
  for (const CaseEvent& e : events) {
    if (e.event == "put back") out = true;
    if (e.event == "step") out = false;
  }
  return out;
}

Outcome without_disk(const CaseFile& job, const Journal* journal) {
  if (journal == nullptr || journal->steps_recorded() == 0) return Outcome::stopped;
  if (journal->reverted()) return Outcome::reverted;
  if (journal->reverting()) return Outcome::reverting;
  if (journal->steps_done() == job.assessment.steps.size()) return Outcome::done;
  // Between two steps the disk is neither: a whole step of the way to the new one.
  return journal->steps_done() > 0 ? Outcome::new_disk : Outcome::cut_off;
}

Outcome with_disk(const CaseFile& job, const Device& disk) {
  const Standing at = standing_of(job, disk);
  switch (at.stage) {
    case CaseStage::nothing_written:
      return Outcome::stopped;
    case CaseStage::before_switch:
      return at.steps > 0 ? Outcome::new_disk : Outcome::old_disk;
    case CaseStage::after_switch:
      return Outcome::new_disk;
    case CaseStage::torn:
      return Outcome::torn;
    case CaseStage::finished:
      return Outcome::done;
    case CaseStage::reverting:
      return Outcome::reverting;
    case CaseStage::reverted:
      return Outcome::reverted;
  }
  return Outcome::stopped;
}

}  // namespace

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

const char* name_of(Outcome outcome) {
  switch (outcome) {
    case Outcome::out_of_reach:
      return "out-of-reach";
    case Outcome::rehearsed:
      return "rehearsed";
    case Outcome::stopped:
      return "stopped";
    case Outcome::cut_off:
      return "cut-off";
    case Outcome::torn:
      return "cut-off-torn";
    case Outcome::old_disk:
      return "cut-off-old";
    case Outcome::new_disk:
      return "cut-off-new";
    case Outcome::done:
      return "done";
    case Outcome::differs:
      return "done-with-differences";
    case Outcome::reverting:
      return "reverting";
    case Outcome::reverted:
      return "reverted";
  }
  return "stopped";
}

CaseRecord read_record(const std::string& folder, const Device* disk) {
  const std::filesystem::path path(folder);
  CaseRecord out;
  out.job = load_case(path);
  const auto has = [&path](const char* name) { return std::filesystem::exists(path / name); };
  out.disk_seen = disk != nullptr;
  out.events = json::read_log(path / "log.jsonl");
  if (has("before.manifest")) out.before = load_manifest(path / "before.manifest");
  std::optional<Journal> journal;
  if (has("undo.journal")) {
    journal = Journal::open(path / "undo.journal");
    out.written = journal->writes();
    out.journal_bytes = std::filesystem::file_size(path / "undo.journal");
  }
  if (!out.job.assessment.in_reach()) {
    out.outcome = Outcome::out_of_reach;
  } else if (put_back_by_itself(out.events)) {
    out.outcome = Outcome::stopped;
  } else {
    out.outcome = disk != nullptr ? with_disk(out.job, *disk)
                                  : without_disk(out.job, journal ? &*journal : nullptr);
  }
  if (out.outcome == Outcome::stopped && !out.events.empty() &&
      out.events.back().event == only_rehearsed)
    out.outcome = Outcome::rehearsed;
  // A job is finished when it was compared, too.
  if (out.outcome == Outcome::done && !has("result.json")) out.outcome = Outcome::new_disk;
  if (out.outcome != Outcome::done) return out;
  out.after = load_manifest(path / "after.manifest");
  const Assessment& a = out.job.assessment;
  if (out.before) {
    Manifest expected = *out.before;
    expect(a.expectation(), expected);
    out.comparison = compare_expected(expected, *out.after, a.expectation());
  }
  json::read_result(path / "result.json", out);
  out.left_behind = count_left_behind(path);
  const bool sound = out.comparison && out.comparison->equal() && !has_errors(out.findings_after);
  if (!sound) out.outcome = Outcome::differs;
  return out;
}

void record_refusal(const Device& device, const Assessment& assessment, const JobOptions& options) {
  const Case folder = Case::create(options.case_folder, device, options.case_in_memory);
  folder.save(assessment, options);
  folder.log("refused", fmt::format("{} obstacles", assessment.obstacles.size()));
}

}  // namespace nuvrat

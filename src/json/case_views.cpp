// Jobs as JSON: done, refused, put back, gathered from their case.

#include <nuvrat/text.h>

#include "json/job_views.h"
#include "json/models.h"
#include "json/pieces.h"
#include "json/views.h"

namespace nuvrat {
using namespace json;

namespace {

Json written_json(const std::vector<WrittenRange>& written) {
  Json out = Json::array();
  for (const WrittenRange& w : written) {
    out.push_back({{"phase", name_of(w.phase)},
                   {"step", w.step},
                   {"first", w.range.first},
                   {"count", w.range.count},
                   {"why", w.what}});
  }
  return out;
}

Json next_json(const std::vector<NextStep>& next) {
  Json out = Json::array();
  for (const NextStep& step : next)
    out.push_back(
        {{"code", step.code}, {"title", step.title}, {"brief", step.brief}, {"text", step.text}});
  return out;
}

Json manifest_totals(const std::optional<Manifest>& m) {
  if (!m) return nullptr;
  return {{"files", m->files()},        {"directories", m->directories()},
          {"bytes", m->bytes()},        {"unreadable_files", m->unreadable_files()},
          {"ranges", m->ranges.size()}, {"seal", m->seal()}};
}

Json counts_json(const Comparison& c) {
  return {{"unchanged", c.unchanged},
          {"unchanged_bytes", c.unchanged_bytes},
          {"changed", c.changed},
          {"deleted", c.deleted},
          {"added", c.added}};
}

}  // namespace

std::string json::assessment_view(const Assessment& a, const std::vector<NextStep>& next) {
  Json out = to_json(a);
  out["schema"] = "nuvrat.assessment/1";
  out["verdict"] = a.in_reach() ? "in-reach" : "out-of-reach";
  out["disk"] = printable(a.device.path);
  out["next"] = next_json(next);
  return dump(out);
}

std::string json::job_view(const Assessment& a, const JobResult& r, const std::string& folder,
                           const std::vector<NextStep>& next) {
  return dump({{"schema", "nuvrat.rewrite/1"},
               {"verdict", r.sound() ? "done" : "done-with-differences"},
               {"disk", printable(a.device.path)},
               {"case", printable(folder)},
               {"proof", name_of(r.comparison.proof)},
               {"by_place", r.comparison.by_place},
               {"opened_files", r.comparison.opened},
               {"seal_before", r.comparison.seal_before},
               {"seal_after", r.comparison.seal_after},
               {"files", r.files},
               {"bytes", r.bytes},
               {"counts", counts_json(r.comparison)},
               {"difference_count", r.comparison.count},
               {"differences", differences_json(r.comparison.differences)},
               {"planned", differences_json(r.comparison.planned)},
               {"left_behind", r.left_behind},
               {"findings", findings_json(r.findings_after)},
               {"written", written_json(r.written)},
               {"seconds", r.seconds},
               {"table_reread", r.table_reread},
               {"tag_before", a.tag},
               {"tag_after", r.tag_after},
               {"next", next_json(next)},
               {"assessment", to_json(a)}});
}

std::string revert_json(const CaseFile& job, const RevertResult& r) {
  const Comparison seen = r.compared.value_or(Comparison());
  return dump({{"schema", "nuvrat.revert/1"},
               {"verdict", r.equal() ? "reverted" : "differs"},
               {"disk", printable(job.disk)},
               {"case", printable(job.folder)},
               {"sectors", r.sectors},
               {"exact", r.exact},
               {"already", r.already},
               {"compared", r.compared.has_value()},
               {"not_compared", printable(r.not_compared)},
               {"recorded_files", seen.recorded},
               {"same_files", seen.same},
               {"by_place", seen.by_place},
               {"difference_count", seen.count},
               {"differences", differences_json(seen.differences)},
               {"tag_after", r.tag_after}});
}

std::string rehearsal_json(const Assessment& a, const RehearsalResult& r,
                           const std::string& folder) {
  return dump({{"schema", "nuvrat.rehearsal/1"},
               {"verdict", "rehearsed"},
               {"disk", printable(a.device.path)},
               {"case", printable(folder)},
               {"proof", name_of(r.proof)},
               {"files", r.files},
               {"bytes", r.bytes},
               {"ranges", r.ranges},
               {"sectors", r.sectors},
               {"journal_bytes", r.journal_bytes},
               {"seconds", r.seconds},
               {"assessment", to_json(a)}});
}

std::string refusal_json(const Assessment& a, const std::string& folder) {
  return dump({{"schema", "nuvrat.refusal/1"},
               {"verdict", "refused"},
               {"disk", printable(a.device.path)},
               {"case", printable(folder)},
               {"assessment", to_json(a)}});
}

std::string json::report_view(const CaseRecord& r, const Letterhead& letterhead,
                              const char* verdict, const std::vector<NextStep>& next) {
  Json events = Json::array();
  for (const CaseEvent& e : r.events)
    events.push_back(
        {{"time", e.time}, {"event", e.event}, {"detail", e.detail}, {"remedy", e.remedy}});
  const Assessment& a = r.job.assessment;
  return dump(
      {{"schema", "nuvrat.report/1"},
       {"verdict", verdict},
       {"technician", printable(letterhead.technician)},
       {"owner", printable(letterhead.owner)},
       {"job", printable(letterhead.job)},
       {"disk", printable(r.job.disk)},
       {"disk_seen", r.disk_seen},
       {"case", printable(r.job.folder)},
       {"steps_done", r.job.steps_done},
       {"seconds", r.seconds},
       {"proof", name_of(r.job.options.proof)},
       {"by_place", r.comparison ? Json(r.comparison->by_place) : Json(nullptr)},
       {"opened_files", r.comparison ? Json(r.comparison->opened) : Json(nullptr)},
       {"before", manifest_totals(r.before)},
       {"after", manifest_totals(r.after)},
       {"counts", r.comparison ? counts_json(*r.comparison) : Json(nullptr)},
       {"difference_count", r.comparison ? Json(r.comparison->count) : Json(nullptr)},
       {"differences", r.comparison ? differences_json(r.comparison->differences) : Json::array()},
       {"planned", r.comparison ? differences_json(r.comparison->planned) : Json::array()},
       {"left_behind", r.left_behind},
       {"findings_before", findings_json(a.findings)},
       {"findings_after", findings_json(r.findings_after)},
       {"written", written_json(r.written)},
       {"journal_bytes", r.journal_bytes},
       {"tag_before", a.tag},
       {"tag_after", r.tag_after},
       {"next", next_json(next)},
       {"events", events},
       {"assessment", to_json(a)}});
}

}  // namespace nuvrat

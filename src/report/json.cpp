#include <nuvrat/report.h>

#include "json/job_views.h"

namespace nuvrat {

std::string assessment_json(const Assessment& a) {
  return json::assessment_view(a, a.in_reach() ? next_steps(a) : std::vector<NextStep>{});
}

std::string job_json(const Assessment& assessment, const JobResult& result,
                     const std::string& folder) {
  return json::job_view(assessment, result, folder,
                        result.sound() ? next_steps(assessment) : std::vector<NextStep>{});
}

std::string report_json(const CaseRecord& record, const Letterhead& letterhead) {
  return json::report_view(record, letterhead, name_of(record.outcome),
                           record.outcome == Outcome::done ? next_steps(record.job.assessment)
                                                           : std::vector<NextStep>{});
}

}  // namespace nuvrat

#include <nuvrat/report.h>

#include "json/job_views.h"

namespace nuvrat {

std::string assessment_json(const Assessment& a) {
  return assessment_view(a, a.in_reach() ? next_steps(a) : std::vector<NextStep>{});
}

std::string job_json(const Assessment& assessment, const JobResult& result) {
  return job_view(assessment, result, next_steps(assessment));
}

std::string report_json(const CaseRecord& record) {
  return report_view(
      record, name_of(record.outcome),
      record.finished() ? next_steps(record.job.assessment) : std::vector<NextStep>{});
}

}  // namespace nuvrat

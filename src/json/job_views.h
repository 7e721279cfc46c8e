#pragma once
// Jobs as JSON objects; what other rooms know of them comes with the call.

#include <string>
#include <vector>

#include <nuvrat/report.h>

namespace nuvrat::json {

[[nodiscard]] std::string assessment_view(const Assessment& assessment,
                                          const std::vector<NextStep>& next);
[[nodiscard]] std::string job_view(const Assessment& assessment, const JobResult& result,
                                   const std::string& folder, const std::vector<NextStep>& next);
[[nodiscard]] std::string report_view(const CaseRecord& record, const Letterhead& letterhead,
                                      const char* verdict, const std::vector<NextStep>& next);

}  // namespace nuvrat::json

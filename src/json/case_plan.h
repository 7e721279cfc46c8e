#pragma once
// The files of a case that are JSON, as text: docs/formats/case.md. What they say is the job's
// affair.

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/assessment.h>
#include <nuvrat/case_record.h>

namespace nuvrat::json {

/// assessment.json, and the blobs that it names.
struct CasePlan {
  std::string text;
  Bytes blobs;
};
/// What a case keeps besides its assessment.
struct CaseHead {
  std::string disk;  ///< absolute path
  std::string zone;
  unsigned codepage = 437;
  bool full_undo = true;
  bool accept_unreadable = false;
  Proof proof = Proof::contents;
};
[[nodiscard]] CasePlan write_plan(const Assessment& assessment, const CaseHead& head);
/// Throws Error (file) when something is missing, of the wrong kind or not as it was written.
[[nodiscard]] Assessment read_plan(const CasePlan& plan, CaseHead& head);

/// One line of log.jsonl, with its line feed.
[[nodiscard]] std::string log_line(const std::string& event, const std::string& detail,
                                   const std::string& remedy);
/// What can be read of a log; a line that a power cut tore off is left out.
[[nodiscard]] std::vector<CaseEvent> read_log(const std::filesystem::path& path);

/// result.json.
[[nodiscard]] std::string result_text(const JobResult& result);
/// Tag and findings. Throws Error (file).
void read_result(const std::filesystem::path& path, CaseRecord& out);

}  // namespace nuvrat::json

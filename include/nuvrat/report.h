#pragma once
// Results as text for a terminal, as JSON for programs, as a page for the owner. Nothing here
// touches a device.

#include <filesystem>
#include <string>
#include <string_view>

#include <nuvrat/assessment.h>
#include <nuvrat/case_record.h>
#include <nuvrat/job.h>
#include <nuvrat/manifest.h>
#include <nuvrat/survey.h>

namespace nuvrat {

/// How text is to look. Nothing is said by colour alone.
struct TextStyle {
  unsigned width = 80;  ///< columns, 40 or more
  bool colour = false;  ///< of a terminal with 256 of them
};
/// The same for a terminal that shows nothing but ASCII: lines and arrows by their nearest
/// characters, other letters as question marks. As many columns as before.
[[nodiscard]] std::string ascii_text(std::string_view utf8);

// Each begins with the verdict in one line and ends with a line feed.
[[nodiscard]] std::string survey_text(const Survey& survey, const TextStyle& style);
[[nodiscard]] std::string assessment_text(const Assessment& assessment, const TextStyle& style);
/// Every goal with a word on each: `assess` without goals. There may be none for this disk.
[[nodiscard]] std::string goals_text(const DeviceIdentity& device,
                                     const std::vector<Assessment>& goals, const TextStyle& style);
[[nodiscard]] std::string check_text(const Survey& survey, const TextStyle& style);
[[nodiscard]] std::string manifest_text(const Manifest& manifest, const TextStyle& style);
[[nodiscard]] std::string comparison_text(const Comparison& comparison, const Manifest& after,
                                          const TextStyle& style);
[[nodiscard]] std::string job_text(const Assessment& assessment, const JobResult& result,
                                   const TextStyle& style);
[[nodiscard]] std::string case_text(const CaseFile& job, CaseStage stage, const std::string& tag,
                                    const TextStyle& style);
[[nodiscard]] std::string revert_text(const CaseFile& job, const RevertResult& result,
                                      const TextStyle& style);
[[nodiscard]] std::string error_text(const Error& error, const TextStyle& style);

/// What is left to the owner, in the order of doing it: firmware, drive letters, a first check.
struct NextStep {
  std::string code;  ///< stable: "firmware", "loader", "system-check", "letters", "numbers", "look"
  std::string title;  ///< a few words
  std::string text;   ///< what to do, in whole sentences
};
[[nodiscard]] std::vector<NextStep> next_steps(const Assessment& assessment);

/// The page that goes home with the disk: one HTML file that needs no other and no script. The
/// owner's part comes first, the engineer's behind it.
[[nodiscard]] std::string report_html(const CaseRecord& record);

/// Writes the page, whole or not at all. Throws Error (file).
void save_report(const CaseRecord& record, const std::filesystem::path& path);
/// Two lines: what the page says in its head, and where it lies.
[[nodiscard]] std::string report_text(const CaseRecord& record, const std::filesystem::path& path,
                                      const TextStyle& style);

// One object each, with its schema's name and version in "schema".
[[nodiscard]] std::string survey_json(const Survey& survey);
[[nodiscard]] std::string assessment_json(const Assessment& assessment);
[[nodiscard]] std::string goals_json(const std::vector<Assessment>& goals);
[[nodiscard]] std::string check_json(const Survey& survey);
[[nodiscard]] std::string manifest_json(const Manifest& manifest);
[[nodiscard]] std::string comparison_json(const Comparison& comparison, const Manifest& after);
[[nodiscard]] std::string job_json(const Assessment& assessment, const JobResult& result);
[[nodiscard]] std::string revert_json(const CaseFile& job, const RevertResult& result);
[[nodiscard]] std::string refusal_json(const Assessment& assessment);
[[nodiscard]] std::string report_json(const CaseRecord& record);
[[nodiscard]] std::string error_json(const Error& error);

}  // namespace nuvrat

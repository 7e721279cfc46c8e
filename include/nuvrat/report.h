#pragma once
// Results as text for a terminal, as JSON for programs, as a page for the owner. Nothing here
// touches a device.

#include <string>
#include <string_view>

#include <nuvrat/assessment.h>
#include <nuvrat/case_record.h>
#include <nuvrat/files.h>
#include <nuvrat/job.h>
#include <nuvrat/machine.h>
#include <nuvrat/manifest.h>
#include <nuvrat/survey.h>

namespace NUVRAT_API nuvrat {

/// How text is to look. Nothing is said by colour alone.
struct TextStyle {
  unsigned width = 80;   ///< columns, 40 or more
  unsigned height = 24;  ///< rows: a screen before a question leaves out what doesn't fit
  bool colour = false;   ///< of a terminal with 256 of them
};
/// The same for a terminal that shows nothing but ASCII: lines and arrows by their nearest
/// characters, other letters as question marks. As many columns as before.
[[nodiscard]] std::string ascii_text(std::string_view utf8);

// Each begins with the verdict in one line and ends with a line feed.
[[nodiscard]] std::string machine_text(const std::vector<MachineDisk>& disks,
                                       const TextStyle& style);
[[nodiscard]] std::string survey_text(const Survey& survey, const TextStyle& style);
/// One line for one of several disks, without the subject: what survey or check says first.
[[nodiscard]] std::string survey_line(const Survey& survey);
[[nodiscard]] std::string check_line(const Survey& survey);
/// `path`: the file or folder that was listed.
[[nodiscard]] std::string files_text(OpenedVolume& volume, const std::string& path,
                                     const std::vector<FileEntry>& files, const TextStyle& style);
[[nodiscard]] std::string fetch_text(OpenedVolume& volume, const FetchResult& result,
                                     const std::string& folder, bool checked,
                                     const TextStyle& style);
/// The page before a decision: the disk, its state before and after, what is deleted or lost, what
/// the owner must know. `proof`: how the job is to compare.
[[nodiscard]] std::string assessment_text(const Assessment& assessment, const TextStyle& style,
                                          Proof proof = Proof::contents);
/// The same with steps, numbers, clusters, writes, and every consent in full.
[[nodiscard]] std::string assessment_details(const Assessment& assessment, const TextStyle& style,
                                             Proof proof = Proof::contents);
/// Every goal with a word on each: `assess` without goals. There may be none for this disk.
[[nodiscard]] std::string goals_text(const DeviceIdentity& device,
                                     const std::vector<Assessment>& goals, const TextStyle& style);
[[nodiscard]] std::string check_text(const Survey& survey, const TextStyle& style);
/// `file`: where it was saved, by which it can be verified; or empty.
[[nodiscard]] std::string manifest_text(const Manifest& manifest, const std::string& file,
                                        const TextStyle& style);
[[nodiscard]] std::string comparison_text(const Comparison& comparison, const Manifest& after,
                                          const TextStyle& style);
/// `folder`: the case.
[[nodiscard]] std::string job_text(const Assessment& assessment, const JobResult& result,
                                   const std::string& folder, const TextStyle& style);
[[nodiscard]] std::string rehearsal_text(const Assessment& assessment,
                                         const RehearsalResult& result, const std::string& folder,
                                         const TextStyle& style);
[[nodiscard]] std::string case_text(const CaseFile& job, CaseStage stage, const std::string& tag,
                                    const TextStyle& style);
[[nodiscard]] std::string revert_text(const CaseFile& job, const RevertResult& result,
                                      const TextStyle& style);
[[nodiscard]] std::string error_text(const Error& error, const TextStyle& style);

/// Steps that are left to the owner, in the order of doing them: firmware, drive letters, a first
/// check.
struct NextStep {
  std::string code;  ///< stable: "firmware", "loader", "system-check", "letters", "numbers", "look"
  std::string title;  ///< a few words
  std::string brief;  ///< what to do, in one line without a full stop
  std::string text;   ///< the same in whole sentences
};
[[nodiscard]] std::vector<NextStep> next_steps(const Assessment& assessment);

/// Names on the page: the technician's and the owner's. An empty one isn't on it.
struct Letterhead {
  std::string technician;  ///< name, and how to be reached
  std::string owner;
  std::string job;  ///< the shop's own number
};
/// Lines of "technician = NAME", "owner = NAME", "job = NUMBER"; "#" begins a comment. Throws Error
/// (file) with the line that is none of them. Nothing where there is no such file.
[[nodiscard]] Letterhead read_letterhead(const std::string& file);
/// Where a technician's is looked for: nuvrat/letterhead in $XDG_CONFIG_HOME, else in ~/.config;
/// empty where neither is set.
[[nodiscard]] std::string letterhead_file();

/// The page that goes home with the disk: one HTML file that needs no other and no script. The
/// owner's part comes first, then the engineer's.
[[nodiscard]] std::string report_html(const CaseRecord& record, const Letterhead& letterhead = {});

/// Writes the page, whole or not at all. Throws Error (file).
void save_report(const CaseRecord& record, const std::string& path,
                 const Letterhead& letterhead = {});
/// Two lines: what the page says in its head, and where it lies.
[[nodiscard]] std::string report_text(const CaseRecord& record, const std::string& path,
                                      const TextStyle& style);

// One object each, with its schema's name and version in "schema".
[[nodiscard]] std::string machine_json(const std::vector<MachineDisk>& disks);
[[nodiscard]] std::string survey_json(const Survey& survey);
[[nodiscard]] std::string files_json(OpenedVolume& volume, const std::string& path,
                                     const std::vector<FileEntry>& files);
[[nodiscard]] std::string fetch_json(OpenedVolume& volume, const FetchResult& result,
                                     const std::string& folder);
[[nodiscard]] std::string assessment_json(const Assessment& assessment);
[[nodiscard]] std::string goals_json(const DeviceIdentity& device,
                                     const std::vector<Assessment>& goals);
[[nodiscard]] std::string check_json(const Survey& survey);
[[nodiscard]] std::string manifest_json(const Manifest& manifest);
[[nodiscard]] std::string comparison_json(const Comparison& comparison, const Manifest& after);
/// `folder`: the case.
[[nodiscard]] std::string job_json(const Assessment& assessment, const JobResult& result,
                                   const std::string& folder);
[[nodiscard]] std::string rehearsal_json(const Assessment& assessment,
                                         const RehearsalResult& result, const std::string& folder);
[[nodiscard]] std::string revert_json(const CaseFile& job, const RevertResult& result);
/// `folder`: the case that keeps the refusal, or empty.
[[nodiscard]] std::string refusal_json(const Assessment& assessment,
                                       const std::string& folder = {});
[[nodiscard]] std::string report_json(const CaseRecord& record, const Letterhead& letterhead = {});
/// `disk` and `folder` (the case): what the work was about, where that is known.
[[nodiscard]] std::string error_json(const Error& error, const std::string& disk = "",
                                     const std::string& folder = {});

}  // namespace nuvrat

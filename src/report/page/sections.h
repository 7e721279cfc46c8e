#pragma once
// The parts of the page, from the owner's to the engineer's.

#include <string>

#include <nuvrat/report.h>

namespace nuvrat::report {

struct Verdict {
  std::string tone;  ///< "good", "warn", "bad": a colour beside the words
  std::string mark;  ///< one character
  std::string headline;
  std::string text;  ///< HTML
};
[[nodiscard]] Verdict verdict_of(const CaseRecord& record);

// For the owner. Empty where there is nothing to say.
[[nodiscard]] std::string asked_section(const CaseRecord& record);
[[nodiscard]] std::string stands_section(const CaseRecord& record);
[[nodiscard]] std::string next_section(const CaseRecord& record);
[[nodiscard]] std::string disk_section(const CaseRecord& record);
[[nodiscard]] std::string changes_section(const CaseRecord& record);
[[nodiscard]] std::string agreed_section(const CaseRecord& record);
[[nodiscard]] std::string back_section(const CaseRecord& record);

/// What the words mean.
[[nodiscard]] std::string words_section();

// For the engineer.
/// Which disk, which case, and, of a job that isn't finished, the commands.
[[nodiscard]] std::string identity_section(const CaseRecord& record);
[[nodiscard]] std::string proof_section(const CaseRecord& record);
[[nodiscard]] std::string sectors_section(const CaseRecord& record);
[[nodiscard]] std::string layout_section(const CaseRecord& record);
[[nodiscard]] std::string log_section(const CaseRecord& record);

/// The page's looks: light, dark, paper.
[[nodiscard]] std::string_view page_style();

}  // namespace nuvrat::report

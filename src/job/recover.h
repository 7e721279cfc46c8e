#pragma once
// What finishing a job and going back ask of a case and its disk.

#include <filesystem>

#include <nuvrat/job.h>

namespace nuvrat::job {

/// How far a job is on the disk at hand.
struct Standing {
  CaseStage stage = CaseStage::nothing_written;
  unsigned steps = 0;  ///< done on this disk
};
/// As stage_of.
[[nodiscard]] Standing standing_of(const CaseFile& job, const Device& device);

[[nodiscard]] std::filesystem::path journal_path(const CaseFile& job);
/// Throws Error (refused) for a case of a refusal.
void require_begun(const CaseFile& job);
/// Throws Error unless each sector of the journal holds what it held before the job or something
/// that the job wrote (of a finished one: what it left): device_read for those that can't be read,
/// refused for the others.
void require_no_foreign(const Journal& journal, const Device& device, const Layout& layout,
                        bool finished);

}  // namespace nuvrat::job

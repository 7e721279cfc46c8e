#pragma once
// A job from start to end: record, rehearse, rewrite, compare; with a case folder that holds what
// was decided and what was found.

#include <filesystem>
#include <string>

#include <nuvrat/assessment.h>
#include <nuvrat/manifest.h>
#include <nuvrat/progress.h>

namespace nuvrat {

struct JobOptions {
  ReadOptions read;
  /// Made by the job; must not exist yet, or be empty.
  std::filesystem::path case_folder;
};

struct JobResult {
  std::string tag_after;
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
  std::uint64_t ranges = 0;  ///< partitions that were recorded by the hash of their range
  Comparison comparison;
  std::vector<WrittenRange> written;  ///< every range written, in order, all steps
  Findings findings_after;
  [[nodiscard]] bool sound() const { return comparison.equal() && !has_errors(findings_after); }
};

/// Does what an assessment says: takes the manifest, plays every step through on an overlay,
/// compares there, and only then writes; then takes the manifest again from the device itself.
/// Throws Error: refused (obstacles, a case folder on the disk itself, a disk that changed since),
/// cancelled, and whatever the device says. Nothing was written unless the code is cut_off.
[[nodiscard]] JobResult run_job(Device& device, const Assessment& assessment,
                                const JobOptions& options, Progress& progress);

}  // namespace nuvrat

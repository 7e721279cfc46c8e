#pragma once
// A job from start to end: record, rehearse, rewrite, compare; with a case folder that holds what
// was decided, what was found, and the way back.

#include <optional>
#include <string>

#include <nuvrat/assessment.h>
#include <nuvrat/journal.h>
#include <nuvrat/manifest.h>
#include <nuvrat/open.h>
#include <nuvrat/progress.h>

namespace NUVRAT_API nuvrat {

struct JobOptions {
  ReadOptions read;
  /// Made by the job; must not exist yet, be empty, or hold a refusal or a rehearsal alone.
  std::string case_folder;
  Undo undo = Undo::full;
  /// Contents: all files are read before and after. Places: only what moves.
  Proof proof = Proof::contents;
  /// Go on although parts of files can't be read; they are expected to be the same parts
  /// afterwards.
  bool accept_unreadable = false;
  /// A case on a file system in memory is gone with the power, and the way back with it: only when
  /// that is wanted.
  bool case_in_memory = false;
};

struct JobResult {
  std::string tag_after;
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
  std::uint64_t ranges = 0;       ///< partitions that were recorded as a whole
  std::uint64_t unreadable = 0;   ///< files that could not be read in full, before or after
  std::uint64_t left_out = 0;     ///< places that could not be read, before and after
  std::uint64_t left_behind = 0;  ///< what the new format can't hold: things kept in the case
  Comparison comparison;
  std::vector<WrittenRange> written;  ///< every range written, in order, all steps
  Findings findings_after;
  double seconds = 0;        ///< that the job took; of one that was cut off, from resuming on
  bool table_reread = true;  ///< the system knows the new table
  bool from_medium = true;   ///< what was read back came from the medium, not from memory
  /// Nothing is missing and no rule is broken, as far as was looked (Comparison::proof).
  [[nodiscard]] bool sound() const { return comparison.equal() && !has_errors(findings_after); }
};

/// Does what an assessment says: takes the manifest, plays every step through on an overlay,
/// compares there, and only then writes; then takes the manifest again from the device itself.
///
/// Throws Error. refused, busy, guard, damaged, file: nothing was written. cancelled, device_read,
/// device_write: the disk is as it was. not_compared: it is done, the comparison is missing, and
/// resume_case makes it. cut_off: the disk reads as the old one or the new one, and
/// resume_case or revert_case ends the job.
[[nodiscard]] JobResult run_job(Device& device, const Assessment& assessment,
                                const JobOptions& options, Progress& progress);
/// The same where nobody looks on, or wants to stop it.
[[nodiscard]] JobResult run_job(Device& device, const Assessment& assessment,
                                const JobOptions& options);

struct RehearsalResult {
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
  std::uint64_t ranges = 0;         ///< partitions that were recorded as a whole
  std::uint64_t sectors = 0;        ///< that the job would write
  double seconds = 0;               ///< that it took
  std::uint64_t journal_bytes = 0;  ///< the most that its way back takes in the case
  Proof proof = Proof::contents;
};
/// The conditions of run_job for the folder of its case, before the disk is read; nothing is made.
/// Throws Error: refused when it holds a job already, belongs to another user, lies on the disk
/// that is to be rewritten or, unless `in_memory`, in memory; file when it can't be made; words
/// when the folder above it isn't there, as after a slip of the fingers: run_job would make it.
void check_case_folder(const std::string& folder, const Device& device, bool in_memory);

/// The same up to the first write: records, plays every step through on an overlay, compares there,
/// and leaves a case that says so. The device is only read. That case can be gone on with by
/// resume_case, which begins anew, and a later run_job may use its folder. Errors as run_job.
[[nodiscard]] RehearsalResult rehearse_job(Device& device, const Assessment& assessment,
                                           const JobOptions& options, Progress& progress);

/// How far a job is.
enum class CaseStage {
  nothing_written,
  before_switch,  ///< cut off; the disk reads as before the step in progress
  after_switch,   ///< cut off; the disk reads as after the step in progress
  torn,           ///< cut off, and a sector that was being written holds nothing that was written
  finished,
  reverting,  ///< a revert was cut off
  reverted,
};
[[nodiscard]] const char* name_of(CaseStage stage);

/// A case folder opened again.
struct CaseFile {
  std::string folder;
  std::string disk;  ///< where the disk was, absolute
  Assessment assessment;
  JobOptions options;
  unsigned steps_done = 0;  ///< as the journal notes, of the disk that was last worked on

  /// The case's disk is opened with these.
  [[nodiscard]] OpenOptions open_options(bool writable) const;
  /// The tag that the disk has now; where the cut tore it, the one that it had before the job.
  /// Errors as Device::read.
  [[nodiscard]] std::string tag_now(const Device& device, CaseStage stage) const;
};
/// Reads assessment.json or, where that is lost, the plan in the journal. Throws Error (file) when
/// the folder holds no case, or one that isn't as it was written.
[[nodiscard]] CaseFile load_case(const std::string& folder);
/// Where this disk stands, told by all of the journal's sectors on it: any disk that holds them is
/// the disk of the case, under whatever name; another one may have been put back since. Throws
/// Error (refused) when this is not the disk of the case, (file) when journal, log and disk
/// contradict each other: the case is damaged.
[[nodiscard]] CaseStage stage_of(const CaseFile& job, const Device& device);

/// Finishes a job that was cut off, from wherever it was. Errors as run_job.
[[nodiscard]] JobResult resume_case(Device& device, const CaseFile& job, Progress& progress);

struct RevertOptions {
  bool discard_later_changes = false;  ///< go back over what was written since the job, too
  /// Where the way back isn't played through first, read the disk once it was put back.
  bool compare = true;
};
struct RevertResult {
  std::string tag_after;
  std::uint64_t sectors = 0;  ///< put back
  bool exact = true;          ///< every sector that was written is as it was, free ones too
  bool already = false;       ///< the disk was as it had been before: nothing was written
  /// The record from before the job, compared with the disk that the way back gives. Of a finished
  /// job that was read before anything was put back, and there are no differences; after a job that
  /// was cut off, or over later changes, it was read afterwards, and there may be some.
  std::optional<Comparison> compared{};
  std::string not_compared{};  ///< why there is none
  /// Nothing is known to be otherwise than before the job. Says nothing of what wasn't compared.
  [[nodiscard]] bool equal() const { return !compared || compared->equal(); }
  /// It was compared, and is equal; or nothing was to be put back.
  [[nodiscard]] bool sound() const { return equal() && (compared || already); }
};
/// Puts the disk back. Of a finished job it is played through first. Throws Error (refused) when
/// the disk was written to since so that something would be lost or not be as recorded,
/// and `discard_later_changes` isn't set; the text says what. May be cut off and run again. A stop
/// that is asked for ends the comparison, never the way back.
[[nodiscard]] RevertResult revert_case(Device& device, const CaseFile& job,
                                       const RevertOptions& options, Progress& progress);

/// Finishes a settle that find_unfinished saw, when the case is lost.
void finish_unfinished(Device& device, const UnfinishedStep& unfinished, Progress& progress);

}  // namespace nuvrat

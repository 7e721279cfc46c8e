#pragma once
// All that a case folder knows of its job, gathered for a reader afterwards: the page that goes
// home with the disk, a program, a colleague.

#include <optional>
#include <string>
#include <vector>

#include <nuvrat/job.h>

namespace NUVRAT_API nuvrat {

/// How a job ended, or how far it is.
enum class Outcome {
  out_of_reach,  ///< refused by the assessment; nothing was written
  rehearsed,     ///< played through, as wanted; nothing was written
  stopped,       ///< refused, failed or stopped before the switch; the disk is the old one
  cut_off,       ///< in the middle; whether the switch was made only the disk can say
  torn,          ///< in the middle of a sector, which holds nothing that was written
  old_disk,      ///< cut off before the switch; the disk is the old one
  new_disk,      ///< cut off after the switch: the disk has its new layout
  done,          ///< finished, and nothing was lost
  differs,       ///< finished, with differences or findings
  reverting,     ///< a way back was begun and cut off
  reverted,      ///< put back
};
[[nodiscard]] const char* name_of(Outcome outcome);

/// One line of the case's log.
struct CaseEvent {
  std::string time;  ///< UTC, ISO 8601
  std::string event;
  std::string detail;  ///< may be empty
  std::string remedy;  ///< what would lift it, where it says why something ended
};

struct CaseRecord {
  CaseFile job;
  Outcome outcome = Outcome::stopped;
  bool disk_seen = false;  ///< the disk was at hand when this was gathered
  std::vector<CaseEvent> events;
  std::optional<Manifest> before;        ///< missing when the job ended sooner
  std::optional<Manifest> after;         ///< the same
  std::optional<Comparison> comparison;  ///< made anew from the two
  std::vector<WrittenRange> written;     ///< every range that was or may have been written
  std::uint64_t journal_bytes = 0;       ///< of the way back
  std::uint64_t left_behind = 0;         ///< what the new format can't hold, kept in the case
  std::string tag_after;                 ///< empty unless finished
  double seconds = 0;                    ///< that the job took, once finished
  Findings findings_after;               ///< notes left out
  [[nodiscard]] bool finished() const {
    return outcome == Outcome::done || outcome == Outcome::differs;
  }
};

/// Gathers it. With `disk` the job's stage is read from the disk itself; without, from the journal
/// alone. Throws Error (file) when the folder holds no case or a part of it can't be read,
/// (refused) when it isn't the disk of the case.
[[nodiscard]] CaseRecord read_record(const std::string& folder, const Device* disk = nullptr);

/// Keeps an assessment that says no, so that its page can be made. Makes the folder; errors as
/// run_job.
void record_refusal(const Device& device, const Assessment& assessment, const JobOptions& options);

}  // namespace nuvrat

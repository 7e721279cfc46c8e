#pragma once
// The folder that holds one job: docs/formats/case.md.

#include <chrono>
#include <filesystem>

#include <nuvrat/assessment.h>
#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/job.h>

#include "base/descriptor.h"
#include "json/case_plan.h"

namespace nuvrat::job {

[[nodiscard]] inline Error refused(const std::string& text, const std::string& remedy) {
  return {ErrorCode::refused, text, {}, remedy};
}

class Case {
 public:
  /// Makes the folder, private to its owner and durable. Throws Error (refused) when it holds
  /// anything already, belongs to another user, lies on the disk that is to be rewritten or in
  /// memory.
  static Case create(const std::filesystem::path& folder, const Device& device, bool in_memory);
  explicit Case(std::filesystem::path folder);

  [[nodiscard]] std::filesystem::path file(const char* name) const { return folder_ / name; }
  /// False once the folder is gone from its place: deleted, or what holds it unmounted.
  [[nodiscard]] bool still_there() const;
  [[nodiscard]] bool has(const char* name) const { return std::filesystem::exists(file(name)); }
  /// Everything that the job needs; it goes into files of the case and into the journal.
  [[nodiscard]] static json::CasePlan plan_of(const Assessment& assessment,
                                              const JobOptions& options);
  void save(const Assessment& assessment, const JobOptions& options) const;
  /// One line of log.jsonl: time, event, and whatever else there is to say. A log that can't be
  /// written is no reason to leave a disk half way: nothing is thrown.
  void log(const std::string& event, const std::string& detail = "") const noexcept;
  /// The same for what ended a job: what and where, and what would remove it.
  void log(const std::string& event, const Error& error) const noexcept;
  /// A file of the case, whole under its name or not there at all.
  void put(const char* name, const std::string& contents) const;
  /// From here on sectors of the disk may have been written; false again once they are put back.
  void set_written(bool written) { written_ = written; }
  [[nodiscard]] bool written() const { return written_; }
  /// Since this was opened: what a job takes.
  [[nodiscard]] double seconds() const {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - opened_).count();
  }
  /// Bytes free where the folder lies.
  [[nodiscard]] std::uint64_t room() const;

 private:
  std::filesystem::path folder_;
  void append(const std::string& line) const noexcept;
  std::chrono::steady_clock::time_point opened_ = std::chrono::steady_clock::now();
  bool written_ = false;
  base::Descriptor log_;
};

/// Throws Error (refused) unless the folder and all that it holds are this user's alone: no links,
/// nobody else's files, no folder that others may write into. Of one that isn't there: nothing.
void require_private(const std::filesystem::path& folder);

/// What the log of a case ends with that holds a rehearsal and nothing more.
inline constexpr const char* only_rehearsed = "rehearsed only";
/// How often the log says this.
[[nodiscard]] std::size_t count_events(const std::filesystem::path& folder, std::string_view event);

}  // namespace nuvrat::job

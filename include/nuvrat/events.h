#pragma once
// Progress for programs: one JSON line for each stage and, ten times a second at most, for how far
// it is. Every line is flushed at once. Its form is docs/schemas/event.json.

#include <memory>
#include <string>

#include <nuvrat/progress.h>
#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// Writes lines to a file and passes everything on to `inner`, which must outlive it.
class EventLog final : public Progress {
 public:
  /// Begins `path` anew. Throws Error (file) when it can't be written to; a reader that goes away
  /// later, or a full disk, stops nothing.
  EventLog(const std::string& path, Progress& inner);
  ~EventLog() override;

  void stage(std::string_view name, std::uint64_t total) override;
  void advance(std::uint64_t bytes) override;
  void job_share(double share) override;
  [[nodiscard]] bool cancelled() const override { return inner_.cancelled(); }
  void end_awaited() override { inner_.end_awaited(); }

  /// The last line: how the work ended, in a word or an error's message, and the exit status that
  /// goes with it.
  void end(std::string_view verdict, int status);

 private:
  struct Lines;
  Progress& inner_;
  std::unique_ptr<Lines> lines_;
};

}  // namespace nuvrat

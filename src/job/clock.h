#pragma once
// One progress for the whole job: what each of its phases will take, as the assessment expects it.

#include <array>

#include <nuvrat/job.h>

namespace nuvrat::job {

/// Passes everything on, and says after each how much of the job is done. `inner` must outlive it.
class JobClock final : public Progress {
 public:
  enum Phase { recording, rehearsing, writing, comparing, phases };
  /// From where to where: a rehearsal ends before it writes, what is resumed is recorded already.
  JobClock(Progress& inner, const Assessment& assessment, Proof proof, Phase first = recording,
           Phase last = comparing);

  /// A phase begins; the one before it is done.
  void begin(Phase phase);

  void stage(std::string_view name, std::uint64_t total) override;
  void advance(std::uint64_t bytes) override;
  [[nodiscard]] bool cancelled() const override { return inner_.cancelled(); }
  void end_awaited() override { inner_.end_awaited(); }
  /// All of it.
  void finish();

 private:
  void tell();

  Progress& inner_;
  std::array<double, phases> weight_{};  ///< of the whole: together 1
  std::array<double, phases> bytes_{};   ///< that each goes through, as far as it is known
  Phase phase_ = recording;
  double done_ = 0;   ///< bytes in this phase
  double share_ = 0;  ///< as told last
};

}  // namespace nuvrat::job

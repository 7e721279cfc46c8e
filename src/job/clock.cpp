#include "job/clock.h"

#include <algorithm>
#include <numeric>

#include "base/memory.h"

namespace nuvrat::job {

JobClock::JobClock(Progress& inner, const Assessment& assessment, Proof proof, Phase first,
                   Phase last)
    : inner_(inner), phase_(first) {
  // Of the passes over structures (plan/time.cpp): one to record, some to rehearse, those of the
  // rewrite itself, and the check and the reading afterwards.
  const double structures = std::max(assessment.seconds_by_places, 0.01);
  const double contents =
      proof == Proof::places
          ? 0
          : std::max(assessment.expected_seconds - assessment.seconds_by_places, 0.0);
  weight_ = {0.2 * structures + contents / 2, 0.3 * structures, 0.15 * structures,
             0.35 * structures + contents / 2};
  std::fill(weight_.begin(), weight_.begin() + first, 0.0);
  std::fill(weight_.begin() + last + 1, weight_.end(), 0.0);
  const double all = std::accumulate(weight_.begin(), weight_.end(), 0.0);
  for (double& w : weight_) w /= all;
  const double read = proof == Proof::places ? 0 : static_cast<double>(assessment.files_bytes);
  const double written =
      static_cast<double>(assessment.sectors_to_write * assessment.before.sector_size);
  bytes_ = {read, read, written, read};
}

void JobClock::begin(Phase phase) {
  base::give_back_memory();  // what one phase held needn't lie beside what the next one does
  phase_ = phase;
  done_ = 0;
}

void JobClock::stage(std::string_view name, std::uint64_t total) {
  inner_.stage(name, total);
  tell();
}

void JobClock::advance(std::uint64_t bytes) {
  done_ += static_cast<double>(bytes);
  inner_.advance(bytes);
  tell();
}

void JobClock::finish() {
  share_ = 1;
  inner_.job_share(share_);
}

void JobClock::tell() {
  double share = 0;
  for (int i = recording; i < phase_; ++i) share += weight_[static_cast<std::size_t>(i)];
  const double bytes = bytes_[phase_];
  // The end of a phase is known only when the next one begins.
  if (bytes > 0) share += weight_[phase_] * std::min(done_ / bytes, 0.99);
  share_ = std::max(share_, share);
  inner_.job_share(share_);
}

}  // namespace nuvrat::job

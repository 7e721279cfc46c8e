// How long a job will take: from what this machine and this disk showed just now.

#include <algorithm>
#include <chrono>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "plan/plan.h"

namespace nuvrat {
namespace {

using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

// Bytes a second of plain reading, taken from where files are. 0: nothing could be read.
double read_speed(const Device& device, const Layout& layout) {
  std::uint64_t at = 0;
  for (const Partition& p : layout.data_partitions()) {
    at = p.start;
    break;
  }
  const std::uint64_t piece = (4u << 20) / device.sector_size();
  const auto begin = Clock::now();
  std::uint64_t bytes = 0;
  double seconds = 0;
  for (int i = 0; i < 8 && seconds < 0.2; ++i) {
    const std::uint64_t count = std::min(piece, device.sectors() - std::min(at, device.sectors()));
    if (count == 0) break;
    device.forget({at, count});
    try {
      bytes += device.read(at, count).size();
    } catch (const Error&) {
      break;  // a bad place is no measure of speed
    }
    at += count;
    seconds = seconds_since(begin);
  }
  return bytes == 0 || seconds <= 0 ? 0 : static_cast<double>(bytes) / seconds;
}

// Bytes a second of hashing on one core.
double hash_speed() {
  const Bytes some(4u << 20, 0x5A);
  const auto begin = Clock::now();
  (void)Sha256::of(some);
  return static_cast<double>(some.size()) / std::max(seconds_since(begin), 1e-6);
}

// Measured on jobs of 1 to 1,000,000 files (docs/proof.md, "Expected and taken"): how often a job
// goes through a volume's structures, in units of the check that the assessment has just made, and
// how often once more where it rewrites the volume itself.
constexpr double passes_of_job = 5.7;
constexpr double passes_of_rewrite = 5.5;
constexpr double seconds_of_file = 2e-6;  // to begin and end a hash
constexpr double seconds_at_least = 0.05;

}  // namespace

Pace measure_pace(const Device& device, const Layout& layout) {
  return {read_speed(device, layout), hash_speed()};
}

void estimate_time(const Device& device, const Survey& survey, const Pace& pace,
                   std::uint64_t volume_sectors, Assessment& out) {
  if (pace.read <= 0) return;
  double structures = 0;
  double files = 0;
  for (const SurveyedPartition& s : survey.partitions) {
    structures += s.seconds;
    files += static_cast<double>(s.totals.files);
  }
  out.seconds_by_places = seconds_at_least + passes_of_job * structures;
  for (const Step& step : out.steps) {
    if (step.volume() == nullptr) continue;
    const auto was = start_before(out.changes, step.volume()->place.first);
    for (const SurveyedPartition& s : survey.partitions) {
      if (was == s.partition.start) out.seconds_by_places += passes_of_rewrite * s.seconds;
    }
  }
  // What is written is made twice, kept for the way back, and read again.
  out.seconds_by_places +=
      6.0 * static_cast<double>(volume_sectors * device.sector_size()) / pace.read;
  // Read before and after; one core reads, the others hash.
  out.expected_seconds =
      out.seconds_by_places + 2 * seconds_of_file * files +
      2.0 * static_cast<double>(out.files_bytes) / std::min(pace.read, pace.hash);
}

}  // namespace nuvrat

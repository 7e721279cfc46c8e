// How long a job will take: from what this machine and this disk showed just now.

#include <algorithm>
#include <chrono>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "plan/stages.h"
#include "tree/hash_workers.h"

namespace nuvrat::plan {
namespace {

using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

// A sample is worth a small part of the time that it is to tell.
constexpr std::uint64_t min_sample = 256u << 10;
constexpr std::uint64_t max_sample = 32u << 20;
constexpr std::uint64_t max_hashed = 4u << 20;
constexpr std::uint64_t sample_share = 32;

std::uint64_t sample_bytes(const Survey& survey) {
  std::uint64_t all = 0;
  for (const SurveyedPartition& s : survey.partitions) {
    const std::uint64_t here =
        s.volume ? s.totals.bytes : s.partition.sectors * std::uint64_t{survey.sector_size};
    all += std::min(here, max_sample * sample_share);
  }
  return std::clamp(all / sample_share, min_sample, max_sample) / 4096 * 4096;  // whole sectors
}

// Measured on jobs of 1 to 1,000,000 files (docs/proof.md, "Expected and taken"): how often a job
// goes through a volume's structures, in units of the check that the assessment has just made, and
// how often once more where something is written in the volume itself.
constexpr double passes_of_job = 3.5;
constexpr double passes_of_rewrite = 5.0;
constexpr double seconds_of_file = 1e-6;  // to begin and end a hash
constexpr double seconds_at_least = 0.03;
// Files up to about that size are hashed on every core, a longer one on one.
constexpr double shared_bytes = 1u << 20;
constexpr double share_of_core = 0.8;  // beside the thread that reads

// How much of a range that is read as a whole holds nothing at all, as far as the device can tell:
// such pieces are neither read nor hashed. So many places in it stand for the rest.
std::uint64_t bytes_in_holes(const Device& device, SectorRange range) {
  constexpr std::uint64_t places = 256;
  const std::uint64_t piece = (1u << 20) / device.sector_size();
  const std::uint64_t end = std::min(range.end(), device.sectors());
  std::uint64_t empty = 0;
  for (std::uint64_t i = 0; i < places; ++i) {
    const std::uint64_t at = range.first + range.count / places * i;
    if (at + piece <= end && device.next_data(at) >= at + piece) ++empty;
  }
  return range.count / places * empty * device.sector_size();
}

}  // namespace

Pace measure_pace(const Device& device, const Survey& survey) {
  const std::vector<Partition> parts = survey.table.layout.data_partitions();
  std::uint64_t at = parts.empty() ? 0 : parts.front().start;
  const std::uint64_t wanted = sample_bytes(survey);
  Bytes piece;
  std::uint64_t bytes = 0;
  double seconds = 0;
  while (bytes < wanted && seconds < 0.2 && at < device.sectors()) {
    const std::uint64_t count = std::min(
        std::min(wanted - bytes, max_hashed) / device.sector_size(), device.sectors() - at);
    Bytes now(count * device.sector_size());
    const auto begin = Clock::now();
    try {
      (void)device.read_medium(at, now);
      seconds += seconds_since(begin);
      bytes += now.size();
      if (now.size() > piece.size()) piece = std::move(now);
    } catch (const Error&) {
      break;  // a bad place says nothing of speed
    }
    at += count;
  }
  if (bytes == 0 || seconds <= 0) return {};
  const auto begin = Clock::now();
  (void)Sha256::of(piece);
  const double hashing = std::max(seconds_since(begin), 1e-9);
  return {static_cast<double>(bytes) / seconds, static_cast<double>(piece.size()) / hashing};
}

Times expected_times(const Device& device, const Survey& survey, const Pace& pace,
                     std::uint64_t volume_sectors, const Assessment& a) {
  Times out;
  if (pace.read <= 0) return out;
  double structures = 0;
  double files = 0;
  std::uint64_t holes = 0;
  for (const SurveyedPartition& s : survey.partitions) {
    if (!s.volume && s.partition.role != Role::extended)
      holes += bytes_in_holes(device, s.partition.range());
    structures += s.seconds;
    files += static_cast<double>(s.totals.files);
  }
  out.by_places = seconds_at_least + passes_of_job * structures;
  for (const Step& step : a.steps) {
    if (step.volume() == nullptr) continue;
    for (const SurveyedPartition& s : survey.partitions) {
      if (s.partition.role != Role::extended && s.partition.id == step.partition())
        out.by_places += passes_of_rewrite * s.seconds;
    }
  }
  // What is written is made twice, kept for the way back, and read again.
  out.by_places += 6.0 * static_cast<double>(volume_sectors * device.sector_size()) / pace.read;
  const auto bytes = static_cast<double>(a.files_bytes - std::min(holes, a.files_bytes));
  const double cores = std::max(1.0, share_of_core * tree::HashWorkers::count());
  const double hash = bytes < shared_bytes * files ? pace.hash * cores : pace.hash;
  // Read before and after.
  out.by_contents =
      out.by_places + 2 * seconds_of_file * files + 2.0 * bytes / std::min(pace.read, hash);
  return out;
}

}  // namespace nuvrat::plan

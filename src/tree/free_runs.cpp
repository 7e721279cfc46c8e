#include "tree/free_runs.h"

#include <algorithm>
#include <numeric>

#include <nuvrat/bytes.h>

namespace nuvrat {

std::uint64_t clusters_in(const Runs& runs) {
  return std::accumulate(runs.begin(), runs.end(), std::uint64_t{0},
                         [](std::uint64_t sum, const Run& r) { return sum + r.count; });
}

void add_run(Runs& runs, Run run) {
  if (run.count == 0) return;
  if (!runs.empty()) {
    Run& last = runs.back();
    const bool holes = last.lcn == Run::hole && run.lcn == Run::hole;
    if (holes || (last.lcn != Run::hole && run.lcn == last.lcn + last.count)) {
      last.count += run.count;
      return;
    }
  }
  runs.push_back(run);
}

FreeRuns::FreeRuns(const SectorSet& free, std::uint64_t cluster_sectors, std::uint64_t first,
                   std::uint64_t clusters)
    : beyond_(clusters) {
  for (const SectorRange& r : free.ranges()) {
    const std::uint64_t begin = std::max(div_up(r.first, cluster_sectors), first);
    const std::uint64_t end = std::min(r.end() / cluster_sectors, clusters);
    if (begin < end) all_.push_back({begin, end - begin});
  }
  std::stable_sort(all_.begin(), all_.end(),
                   [](const Run& a, const Run& b) { return a.count > b.count; });
  capacity_ = clusters_in(all_);
  left_ = all_;
}

void FreeRuns::rewind() {
  left_ = all_;
  at_ = 0;
  used_ = missing_ = 0;
  taken_.clear();
}

void FreeRuns::note(Run run) {
  used_ += run.count;
  add_run(taken_, run);
}

std::optional<Run> FreeRuns::take_whole(std::uint64_t count) {
  // Little has been handed out when this is asked, so that the order nearly holds; it needn't.
  Run* best = nullptr;
  for (std::size_t i = at_; i < left_.size(); ++i) {
    const bool holds = left_[i].count >= count;
    if (holds && (best == nullptr || left_[i].count < best->count)) best = &left_[i];
    if (all_[i].count < count) break;
  }
  if (best == nullptr || count == 0) return std::nullopt;
  const Run out{best->lcn, count};
  best->lcn += count;
  best->count -= count;
  note(out);
  return out;
}

Runs FreeRuns::take(std::uint64_t count, std::uint64_t unit) {
  Runs out;
  const auto hand_out = [&](Run run) {
    count -= run.count;
    add_run(out, run);
    note(run);
  };
  for (std::size_t i = at_; i < left_.size() && count > 0; ++i) {
    Run& left = left_[i];
    const std::uint64_t n = std::min(div_up(count, unit) * unit, left.count / unit * unit);
    if (n > 0) {
      const Run run{left.lcn, std::min(n, count)};
      left.lcn += run.count;
      left.count -= run.count;
      hand_out(run);
    }
    if (left.count == 0 && i == at_) ++at_;
    if (all_[i].count < unit) break;
  }
  if (count > 0) {
    const Run run{beyond_ + missing_, count};
    missing_ += count;
    hand_out(run);
  }
  return out;
}

}  // namespace nuvrat

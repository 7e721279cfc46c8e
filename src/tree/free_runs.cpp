#include "tree/free_runs.h"

#include <algorithm>
#include <numeric>

#include <nuvrat/bytes.h>

namespace nuvrat {
using namespace tree;

std::uint64_t tree::clusters_in(const Runs& runs) {
  return std::accumulate(runs.begin(), runs.end(), std::uint64_t{0},
                         [](std::uint64_t sum, const Run& r) { return sum + r.count; });
}

void tree::add_run(Runs& runs, Run run) {
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

FreeRuns::FreeRuns(const SectorSet& free, std::uint64_t origin, std::uint64_t cluster_sectors,
                   std::uint64_t first, std::uint64_t clusters)
    : beyond_(clusters) {
  const auto each = [&](auto&& visit) {
    for (const SectorRange& r : free) {
      if (r.end() <= origin) continue;
      const std::uint64_t from = std::max(r.first, origin) - origin;
      const std::uint64_t begin = std::max(div_up(from, cluster_sectors), first);
      const std::uint64_t end = std::min((r.end() - origin) / cluster_sectors, clusters);
      if (begin < end) visit(Run{begin, end - begin});
    }
  };
  std::size_t count = 0;  // first: there may be a million of them
  each([&count](const Run&) { ++count; });
  all_.reserve(count);
  each([this](const Run& run) { all_.push_back(run); });
  std::sort(all_.begin(), all_.end(), [](const Run& a, const Run& b) {
    return a.count != b.count ? a.count > b.count : a.lcn < b.lcn;
  });
  capacity_ = clusters_in(all_);
  gone_.resize(all_.size());
}

void FreeRuns::rewind() {
  std::fill(gone_.begin(), gone_.end(), std::uint64_t{0});
  at_ = 0;
  used_ = missing_ = 0;
  taken_.clear();
}

void FreeRuns::note(Run run) {
  used_ += run.count;
  add_run(taken_, run);
}

Run FreeRuns::hand_out(std::size_t i, std::uint64_t count) {
  const Run out{all_[i].lcn + gone_[i], count};
  gone_[i] += count;
  note(out);
  return out;
}

std::optional<Run> FreeRuns::take_whole(std::uint64_t count) {
  // Little has been handed out when this is asked, so that the order nearly holds; it needn't.
  std::optional<std::size_t> best;
  for (std::size_t i = at_; i < all_.size(); ++i) {
    if (left(i) >= count && (!best || left(i) < left(*best))) best = i;
    if (all_[i].count < count) break;
  }
  if (!best || count == 0) return std::nullopt;
  return hand_out(*best, count);
}

Runs FreeRuns::take(std::uint64_t count, std::uint64_t unit) {
  Runs out;
  for (std::size_t i = at_; i < all_.size() && count > 0; ++i) {
    const std::uint64_t n = std::min(div_up(count, unit) * unit, left(i) / unit * unit);
    if (n > 0) {
      const Run run = hand_out(i, std::min(n, count));
      count -= run.count;
      add_run(out, run);
    }
    if (left(i) == 0 && i == at_) ++at_;
    if (all_[i].count < unit) break;
  }
  if (count > 0) {
    const Run run{beyond_ + missing_, count};
    missing_ += count;
    note(run);
    add_run(out, run);
  }
  return out;
}

}  // namespace nuvrat

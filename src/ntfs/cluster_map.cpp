#include "ntfs/cluster_map.h"

#include <algorithm>

namespace nuvrat::ntfs {

void ClusterMap::add(ClusterMove move) {
  if (move.count == 0) return;
  if (!moves_.empty()) {
    ClusterMove& last = moves_.back();
    if (last.from + last.count == move.from && last.to + last.count == move.to) {
      last.count += move.count;
      return;
    }
  }
  moves_.push_back(move);
}

void ClusterMap::sort() {
  std::sort(moves_.begin(), moves_.end(),
            [](const ClusterMove& a, const ClusterMove& b) { return a.from < b.from; });
}

Runs ClusterMap::relocated(const Runs& runs) const {
  Runs out;
  for (const Run& run : runs) {
    if (run.lcn == Run::hole) {
      add_run(out, run);
      continue;
    }
    std::uint64_t at = run.lcn;
    const std::uint64_t end = run.lcn + run.count;
    auto move = std::upper_bound(moves_.begin(), moves_.end(), at,
                                 [](std::uint64_t c, const ClusterMove& m) { return c < m.from; });
    if (move != moves_.begin() && (move - 1)->from + (move - 1)->count > at) --move;
    for (; move != moves_.end() && move->from < end; ++move) {
      if (move->from > at) add_run(out, {at, move->from - at});
      const std::uint64_t first = std::max(at, move->from);
      const std::uint64_t stop = std::min(end, move->from + move->count);
      add_run(out, {move->to + (first - move->from), stop - first});
      at = stop;
    }
    add_run(out, {at, end - at});
  }
  return out;
}

}  // namespace nuvrat::ntfs

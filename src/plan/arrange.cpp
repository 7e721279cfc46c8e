#include "plan/arrange.h"

#include <algorithm>

namespace nuvrat::plan {
namespace {

// The gap in front of a partition; LBA 0 is in no gap.
SectorRange gap_before(const ArrangeRequest& request, std::size_t index) {
  const std::uint64_t from = index == 0 ? 1 : request.partitions[index - 1].range().end();
  const std::uint64_t to = request.partitions[index].start;
  return {from, to > from ? to - from : 0};
}

// The highest `most` free sectors of a range, ascending.
std::vector<std::uint64_t> highest_free(const SectorSet& free, SectorRange range,
                                        std::size_t most) {
  std::vector<std::uint64_t> out;
  const std::vector<SectorRange> taken = free.gaps(range).ranges();
  SectorSet inside{range};
  for (const SectorRange& t : taken) inside.remove(t);
  const std::vector<SectorRange> parts = inside.ranges();
  for (auto it = parts.rbegin(); it != parts.rend() && out.size() < most; ++it) {
    for (std::uint64_t i = 0; i < it->count && out.size() < most; ++i)
      out.push_back(it->last() - i);
  }
  std::reverse(out.begin(), out.end());
  return out;
}

// EBRs for the logicals from `first` to `last`: each gap gives its own partition one, and what is
// missing after them comes from what is left in front.
std::optional<std::vector<std::uint64_t>> place(const ArrangeRequest& request, std::size_t first,
                                                std::size_t last) {
  std::vector<std::uint64_t> used;
  std::vector<std::uint64_t> spare;  // free sectors passed by, ascending
  for (std::size_t k = first; k <= last; ++k) {
    std::vector<std::uint64_t> here =
        highest_free(request.free, gap_before(request, k), last - k + 1);
    spare.insert(spare.end(), here.begin(), here.end());
    if (spare.empty()) return std::nullopt;
    used.push_back(spare.back());
    spare.pop_back();
  }
  std::sort(used.begin(), used.end());
  return used;
}

bool wishes_allow(const ArrangeRequest& request, std::size_t first, std::size_t count) {
  for (std::size_t i = 0; i < request.partitions.size(); ++i) {
    const auto it = request.wanted.find(request.partitions[i].id);
    const bool logical = i >= first && i - first < count;
    if (it != request.wanted.end() && (it->second == Role::logical) != logical) return false;
  }
  return true;
}

}  // namespace

std::optional<Arrangement> arrange(const ArrangeRequest& request) {
  const std::size_t n = request.partitions.size();
  if (n <= 4 && wishes_allow(request, 0, 0)) return Arrangement{};
  for (std::size_t count = n > 4 ? n - 3 : 1; count <= n; ++count) {
    for (std::size_t first = n - count + 1; first-- > 0;) {
      if (n - count > 3 || !wishes_allow(request, first, count)) continue;
      if (auto ebrs = place(request, first, first + count - 1))
        return Arrangement{first, std::move(*ebrs)};
    }
  }
  return std::nullopt;
}

Shortage shortage(const ArrangeRequest& request, std::size_t first, std::size_t last) {
  std::uint64_t there = 0;
  for (std::size_t k = first; k <= last; ++k) {
    const SectorRange gap = gap_before(request, k);
    there += gap.count - request.free.gaps(gap).count();
    if (there < k - first + 1) return Shortage{k, k - first + 1 - there};
  }
  return {};
}

}  // namespace nuvrat::plan

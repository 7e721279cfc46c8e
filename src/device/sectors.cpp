#include <algorithm>
#include <numeric>

#include <fmt/core.h>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

namespace nuvrat {
namespace {

// 16 KiB: an insertion moves half of one, and the list of blocks is short for millions of ranges.
constexpr std::size_t max_in_block = 1024;

// Of a range in a set: that it doesn't overflow was seen when it came.
std::uint64_t end_of(const SectorRange& range) {
  return range.first + range.count;
}

}  // namespace

std::uint64_t SectorRange::end() const {
  return checked_add(first, count, "a sector range");
}

bool SectorRange::overlaps(const SectorRange& other) const {
  return count > 0 && other.count > 0 && first < other.end() && other.first < end();
}

std::string SectorRange::text() const {
  if (count == 1) return fmt::format("sector {}", first);
  if (count == 0) return "no sectors";
  return fmt::format("sectors {} to {}", first, last());
}

SectorSet::SectorSet(std::initializer_list<SectorRange> ranges) {
  for (const SectorRange& range : ranges) add(range);
}

// The first range that ends after the sector.
SectorSet::At SectorSet::first_after(std::uint64_t lba) const {
  const auto block = std::partition_point(
      blocks_.begin(), blocks_.end(), [lba](const Block& b) { return end_of(b.back()) <= lba; });
  At out{static_cast<std::size_t>(block - blocks_.begin())};
  if (block == blocks_.end()) return out;
  const auto range = std::partition_point(block->begin(), block->end(),
                                          [lba](const SectorRange& r) { return end_of(r) <= lba; });
  out.index = static_cast<std::size_t>(range - block->begin());
  return out;
}

SectorSet::At SectorSet::next(At at) const {
  return at.index + 1 < blocks_[at.block].size() ? At{at.block, at.index + 1} : At{at.block + 1};
}

// After all others, and not touching them.
void SectorSet::append(SectorRange range) {
  if (blocks_.empty() || blocks_.back().size() >= max_in_block) blocks_.emplace_back();
  blocks_.back().push_back(range);
}

void SectorSet::insert(At at, SectorRange range) {
  if (is_end(at)) return append(range);
  const auto offset = [](std::size_t n) { return static_cast<std::ptrdiff_t>(n); };
  if (blocks_[at.block].size() >= max_in_block) {
    constexpr std::size_t half = max_in_block / 2;
    Block& full = blocks_[at.block];
    Block second(full.begin() + offset(half), full.end());
    full.resize(half);
    blocks_.insert(blocks_.begin() + offset(at.block + 1), std::move(second));
    if (at.index > half) at = {at.block + 1, at.index - half};
  }
  Block& block = blocks_[at.block];
  block.insert(block.begin() + offset(at.index), range);
}

void SectorSet::erase(At from, At to) {
  for (std::size_t b = from.block; b < blocks_.size() && b <= to.block; ++b) {
    Block& block = blocks_[b];
    const auto place = [&block](std::size_t n) {
      return block.begin() + static_cast<std::ptrdiff_t>(n);
    };
    block.erase(place(b == from.block ? from.index : 0),
                place(b == to.block ? to.index : block.size()));
  }
  const auto begin = blocks_.begin();
  const auto last = begin + static_cast<std::ptrdiff_t>(std::min(to.block + 1, blocks_.size()));
  blocks_.erase(std::remove_if(begin + static_cast<std::ptrdiff_t>(from.block), last,
                               [](const Block& b) { return b.empty(); }),
                last);
}

void SectorSet::add(SectorRange range) {
  const std::uint64_t end = range.end();
  if (range.count == 0) return;
  // From the first that overlaps or touches it.
  const At from = first_after(range.first > 0 ? range.first - 1 : 0);
  At to = from;
  std::uint64_t first = range.first, last = end;
  for (; !is_end(to); to = next(to)) {
    const SectorRange& there = blocks_[to.block][to.index];
    if (there.first > end) break;
    first = std::min(first, there.first);
    last = std::max(last, end_of(there));
  }
  const SectorRange joined{first, last - first};
  if (is_end(from) || (from.block == to.block && from.index == to.index))
    return insert(from, joined);
  blocks_[from.block][from.index] = joined;
  erase(next(from), to);
}

void SectorSet::remove(SectorRange range) {
  const std::uint64_t end = range.end();
  if (range.count == 0) return;
  const At from = first_after(range.first);
  At to = from;
  std::uint64_t first = range.first, last = end;  // of all that goes, with what stays beside it
  for (; !is_end(to); to = next(to)) {
    const SectorRange& there = blocks_[to.block][to.index];
    if (there.first >= end) break;
    first = std::min(first, there.first);
    last = std::max(last, end_of(there));
  }
  erase(from, to);
  if (last > end) insert(first_after(range.first), {end, last - end});
  if (first < range.first) insert(first_after(first), {first, range.first - first});
}

// One walk along both: what `keep` (in a, in b) says.
template <typename Keep>
SectorSet SectorSet::merged(const SectorSet& a, const SectorSet& b, Keep keep) {
  struct Walk {
    const SectorSet& set;
    At at{};
    bool inside = false;
    [[nodiscard]] bool ends() const { return set.is_end(at); }
    // Where it goes into its next range, or out of it.
    [[nodiscard]] std::uint64_t edge() const {
      const SectorRange& r = set.blocks_[at.block][at.index];
      return inside ? end_of(r) : r.first;
    }
    void pass(std::uint64_t edge_at) {
      if (ends() || edge() != edge_at) return;
      if (inside) at = set.next(at);
      inside = !inside;
    }
  };
  Walk in_a{a}, in_b{b};
  SectorSet out;
  bool open = false;
  std::uint64_t begun = 0;
  while (!in_a.ends() || !in_b.ends()) {
    const std::uint64_t edge = in_a.ends()   ? in_b.edge()
                               : in_b.ends() ? in_a.edge()
                                             : std::min(in_a.edge(), in_b.edge());
    in_a.pass(edge);
    in_b.pass(edge);
    const bool kept = keep(in_a.inside, in_b.inside);
    if (kept && !open) begun = edge;
    if (!kept && open) out.append({begun, edge - begun});
    open = kept;
  }
  return out;
}

void SectorSet::add(const SectorSet& other) {
  if (other.blocks_.size() <= 1 && blocks_.size() > 1) {
    for (const SectorRange& r : other) add(r);
    return;
  }
  *this = merged(*this, other, [](bool here, bool there) { return here || there; });
}

void SectorSet::remove(const SectorSet& other) {
  if (other.blocks_.size() <= 1 && blocks_.size() > 1) {
    for (const SectorRange& r : other) remove(r);
    return;
  }
  *this = merged(*this, other, [](bool here, bool there) { return here && !there; });
}

bool SectorSet::empty() const {
  return blocks_.empty();
}

std::uint64_t SectorSet::count() const {
  std::uint64_t out = 0;
  for (const SectorRange& r : *this) out += r.count;
  return out;
}

bool SectorSet::contains(SectorRange range) const {
  const std::uint64_t end = range.end();
  if (range.count == 0) return true;
  const At at = first_after(range.first);
  if (is_end(at)) return false;
  const SectorRange& there = blocks_[at.block][at.index];
  return there.first <= range.first && end_of(there) >= end;
}

std::optional<SectorRange> SectorSet::first_overlap(SectorRange range) const {
  const std::uint64_t end = range.end();
  if (range.count == 0) return std::nullopt;
  const At at = first_after(range.first);
  if (is_end(at)) return std::nullopt;
  const SectorRange& there = blocks_[at.block][at.index];
  if (there.first >= end) return std::nullopt;
  const std::uint64_t first = std::max(there.first, range.first);
  return SectorRange{first, std::min(end_of(there), end) - first};
}

SectorSet SectorSet::gaps(SectorRange within) const {
  const std::uint64_t end = within.end();
  SectorSet out;
  std::uint64_t at = within.first;
  for (At i = first_after(at); !is_end(i) && at < end; i = next(i)) {
    const SectorRange& there = blocks_[i.block][i.index];
    if (there.first > at) out.append({at, std::min(there.first, end) - at});
    at = std::max(at, end_of(there));
  }
  if (at < end) out.append({at, end - at});
  return out;
}

std::vector<SectorRange> SectorSet::ranges() const {
  std::vector<SectorRange> out;
  out.reserve(
      std::accumulate(blocks_.begin(), blocks_.end(), std::size_t{0},
                      [](std::size_t sum, const Block& block) { return sum + block.size(); }));
  for (const Block& block : blocks_) out.insert(out.end(), block.begin(), block.end());
  return out;
}

bool SectorSet::operator==(const SectorSet& other) const {
  return std::equal(begin(), end(), other.begin(), other.end());
}

}  // namespace nuvrat

#include <algorithm>

#include <boost/icl/interval_set.hpp>
#include <fmt/core.h>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

namespace nuvrat {
namespace {

using Interval = boost::icl::right_open_interval<std::uint64_t>;
using Set = boost::icl::interval_set<std::uint64_t, std::less, Interval>;

Interval interval(const SectorRange& range) {
  return {range.first, range.end()};
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

struct SectorSet::Impl {
  Set set;
};

SectorSet::SectorSet() : impl_(std::make_unique<Impl>()) {}
SectorSet::SectorSet(std::initializer_list<SectorRange> ranges) : SectorSet() {
  for (const SectorRange& range : ranges) add(range);
}
SectorSet::SectorSet(const SectorSet& other) : impl_(std::make_unique<Impl>(*other.impl_)) {}
SectorSet& SectorSet::operator=(const SectorSet& other) {
  if (this != &other) *impl_ = *other.impl_;
  return *this;
}
SectorSet::SectorSet(SectorSet&& other) noexcept : SectorSet() {
  std::swap(impl_, other.impl_);
}
SectorSet& SectorSet::operator=(SectorSet&& other) noexcept {
  std::swap(impl_, other.impl_);
  return *this;
}
SectorSet::~SectorSet() = default;

void SectorSet::add(SectorRange range) {
  impl_->set += interval(range);
}
void SectorSet::add(const SectorSet& other) {
  impl_->set += other.impl_->set;
}
void SectorSet::remove(SectorRange range) {
  impl_->set -= interval(range);
}
void SectorSet::remove(const SectorSet& other) {
  impl_->set -= other.impl_->set;
}

bool SectorSet::empty() const {
  return impl_->set.empty();
}
std::uint64_t SectorSet::count() const {
  return boost::icl::cardinality(impl_->set);
}
bool SectorSet::contains(SectorRange range) const {
  return boost::icl::contains(impl_->set, interval(range));
}

std::optional<SectorRange> SectorSet::first_overlap(SectorRange range) const {
  if (range.count == 0) return std::nullopt;
  const auto it = impl_->set.find(interval(range));
  if (it == impl_->set.end()) return std::nullopt;
  const std::uint64_t first = std::max(it->lower(), range.first);
  return SectorRange{first, std::min(it->upper(), range.end()) - first};
}

SectorSet SectorSet::gaps(SectorRange within) const {
  SectorSet out{within};
  out.remove(*this);
  return out;
}

std::vector<SectorRange> SectorSet::ranges() const {
  std::vector<SectorRange> out;
  for (const Interval& i : impl_->set) out.push_back({i.lower(), i.upper() - i.lower()});
  return out;
}

bool SectorSet::operator==(const SectorSet& other) const {
  return impl_->set == other.impl_->set;
}

}  // namespace nuvrat

#pragma once
// Ranges and sets of sectors: who owns what, what may be written.

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// `count` sectors from `first`; empty when count is 0.
struct SectorRange {
  std::uint64_t first = 0;
  std::uint64_t count = 0;

  /// One past the last sector; throws Error on overflow.
  [[nodiscard]] std::uint64_t end() const;
  [[nodiscard]] std::uint64_t last() const { return end() - 1; }
  [[nodiscard]] bool contains(std::uint64_t lba) const {
    return lba >= first && lba - first < count;
  }
  [[nodiscard]] bool overlaps(const SectorRange& other) const;
  bool operator==(const SectorRange&) const = default;
  /// "sector 5" or "sectors 5 to 9".
  [[nodiscard]] std::string text() const;
};

/// A set of sectors, held as disjoint ranges: 16 bytes for each that comes in order, some more for
/// others.
class SectorSet {
 public:
  SectorSet() = default;
  SectorSet(std::initializer_list<SectorRange> ranges);

  void add(SectorRange range);
  void add(const SectorSet& other);
  void remove(SectorRange range);
  void remove(const SectorSet& other);

  [[nodiscard]] bool empty() const;
  [[nodiscard]] std::uint64_t count() const;
  [[nodiscard]] bool contains(SectorRange range) const;
  /// The part of `range` that comes first in the set, if any of it is.
  [[nodiscard]] std::optional<SectorRange> first_overlap(SectorRange range) const;
  /// The sectors of `within` that the set hasn't.
  [[nodiscard]] SectorSet gaps(SectorRange within) const;
  /// In ascending order, joined where they touch.
  [[nodiscard]] std::vector<SectorRange> ranges() const;
  bool operator==(const SectorSet& other) const;

  class Iterator;
  /// Over ranges(), without a copy of them; valid until the set changes.
  [[nodiscard]] Iterator begin() const;
  [[nodiscard]] Iterator end() const;

 private:
  // Ascending, in blocks that hold something each: a change moves no more than a block.
  using Block = std::vector<SectorRange>;
  struct At {
    std::size_t block = 0, index = 0;
    bool operator==(const At&) const = default;
  };
  [[nodiscard]] At first_after(std::uint64_t lba) const;
  [[nodiscard]] bool is_end(At at) const { return at.block == blocks_.size(); }
  [[nodiscard]] At next(At at) const;
  void append(SectorRange range);
  void insert(At at, SectorRange range);
  void erase(At from, At to);
  template <typename Keep>
  [[nodiscard]] static SectorSet merged(const SectorSet& a, const SectorSet& b, Keep keep);

  std::vector<Block> blocks_;
};

class SectorSet::Iterator {
 public:
  using value_type = SectorRange;
  using difference_type = std::ptrdiff_t;

  Iterator(const SectorSet& set, At at) : set_(&set), at_(at) {}
  const SectorRange& operator*() const { return set_->blocks_[at_.block][at_.index]; }
  Iterator& operator++() {
    at_ = set_->next(at_);
    return *this;
  }
  Iterator operator++(int) {
    const Iterator old = *this;
    ++*this;
    return old;
  }
  bool operator==(const Iterator& other) const = default;

 private:
  const SectorSet* set_;
  At at_;
};

inline SectorSet::Iterator SectorSet::begin() const {
  return {*this, {}};
}
inline SectorSet::Iterator SectorSet::end() const {
  return {*this, {blocks_.size()}};
}

}  // namespace nuvrat

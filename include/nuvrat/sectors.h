#pragma once
// Ranges and sets of sectors: who owns what, what may be written.

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace nuvrat {

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

/// A set of sectors, held as disjoint ranges; memory grows with their number.
class SectorSet {
 public:
  SectorSet();
  SectorSet(std::initializer_list<SectorRange> ranges);
  SectorSet(const SectorSet& other);
  SectorSet& operator=(const SectorSet& other);
  SectorSet(SectorSet&&) noexcept;
  SectorSet& operator=(SectorSet&&) noexcept;
  ~SectorSet();

  void add(SectorRange range);
  void add(const SectorSet& other);
  void remove(SectorRange range);
  void remove(const SectorSet& other);

  [[nodiscard]] bool empty() const;
  [[nodiscard]] std::uint64_t count() const;
  [[nodiscard]] bool contains(SectorRange range) const;
  /// The part of `range` that comes first in the set, if any of it is.
  [[nodiscard]] std::optional<SectorRange> first_overlap(SectorRange range) const;
  /// What `within` has that the set hasn't.
  [[nodiscard]] SectorSet gaps(SectorRange within) const;
  /// In ascending order, joined where they touch.
  [[nodiscard]] std::vector<SectorRange> ranges() const;
  bool operator==(const SectorSet& other) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace nuvrat

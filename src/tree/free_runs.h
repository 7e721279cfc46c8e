#pragma once
// The free clusters of a volume in the making, handed out: in one piece where a reader looks before
// it knows any runlist, in as few pieces as there are otherwise.

#include <optional>

#include <nuvrat/sectors.h>

#include "tree/runs.h"

namespace nuvrat::tree {

class FreeRuns {
 public:
  /// Clusters from `first` up to `clusters` that lie whole in `free`; cluster 0 begins at the
  /// sector `origin`.
  FreeRuns(const SectorSet& free, std::uint64_t origin, std::uint64_t cluster_sectors,
           std::uint64_t first, std::uint64_t clusters);

  [[nodiscard]] std::uint64_t capacity() const { return capacity_; }
  [[nodiscard]] std::uint64_t used() const { return used_; }
  /// How many of those used don't exist: nothing was left for them.
  [[nodiscard]] std::uint64_t missing() const { return missing_; }
  [[nodiscard]] const Runs& taken() const { return taken_; }
  /// Everything is free again.
  void rewind();

  /// `count` clusters in one piece, from the smallest run that holds them.
  [[nodiscard]] std::optional<Run> take_whole(std::uint64_t count);
  /// `count` clusters in pieces that are multiples of `unit`, from the largest run on. Where
  /// nothing is left, clusters beyond the volume: a plan then says how many are missing.
  [[nodiscard]] Runs take(std::uint64_t count, std::uint64_t unit = 1);
  /// `count` clusters in one piece where there is such a run, else as take.
  [[nodiscard]] Runs take_in_few(std::uint64_t count) {
    const std::optional<Run> whole = take_whole(count);
    return whole ? Runs{*whole} : take(count);
  }

 private:
  [[nodiscard]] std::uint64_t left(std::size_t i) const { return all_[i].count - gone_[i]; }
  Run hand_out(std::size_t i, std::uint64_t count);
  void note(Run run);

  Runs all_;                         // the largest first
  std::vector<std::uint64_t> gone_;  // clusters handed out from the front of each
  std::size_t at_ = 0;               // before it nothing is left
  Runs taken_;
  std::uint64_t beyond_;
  std::uint64_t capacity_ = 0;
  std::uint64_t used_ = 0;
  std::uint64_t missing_ = 0;
};

}  // namespace nuvrat::tree

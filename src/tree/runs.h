#pragma once
// Runs of clusters, whatever grid they are counted on.

#include <cstdint>
#include <vector>

namespace nuvrat::tree {

/// `count` clusters from `lcn` on, or clusters that aren't there and read as zeros.
struct Run {
  static constexpr std::uint64_t hole = ~std::uint64_t{0};
  std::uint64_t lcn = hole;
  std::uint64_t count = 0;
  bool operator==(const Run&) const = default;
};
using Runs = std::vector<Run>;

[[nodiscard]] std::uint64_t clusters_in(const Runs& runs);

/// Appends a run, joined with the last one where they touch.
void add_run(Runs& runs, Run run);

}  // namespace nuvrat::tree

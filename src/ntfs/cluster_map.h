#pragma once
// Where clusters go that change their place.

#include <vector>

#include "ntfs/runs.h"

namespace nuvrat::ntfs {

/// `count` clusters, from where to where.
struct ClusterMove {
  std::uint64_t from = 0;
  std::uint64_t count = 0;
  std::uint64_t to = 0;
};

class ClusterMap {
 public:
  void add(ClusterMove move);
  /// To be called once all are added, before anything is asked.
  void sort();
  /// The runs with every cluster at its new place.
  [[nodiscard]] Runs relocated(const Runs& runs) const;
  /// By their old places.
  [[nodiscard]] const std::vector<ClusterMove>& moves() const { return moves_; }

 private:
  std::vector<ClusterMove> moves_;
};

}  // namespace nuvrat::ntfs

#pragma once
// Runlists: where the clusters of an attribute lie.

#include <optional>
#include <vector>

#include <nuvrat/bytes.h>

#include "tree/runs.h"

namespace nuvrat::ntfs {
using tree::add_run;
using tree::clusters_in;
using tree::Run;
using tree::Runs;

/// Bytes of one mapping pair; `previous` is the LCN that the delta counts from.
void encode_run(const Run& run, std::uint64_t& previous, Bytes& out);
/// Bytes of a whole runlist with its end mark.
[[nodiscard]] std::size_t encoded_bytes(const Runs& runs);

/// Appends the runs of one attribute's mapping pairs to `out`. Deltas count from zero. Throws Error
/// (damaged) for pairs that leave `bytes`, aren't numbers, or lead outside `clusters`. Holes have
/// at most `max_holes` clusters together: a sparse file may be larger than its volume, but not
/// longer than its attribute says.
void decode_runs(ByteView bytes, std::uint64_t clusters, std::uint64_t max_holes, Runs& out);

/// Runs with the place of each, for reading at any offset.
class RunMap {
 public:
  RunMap() = default;
  explicit RunMap(Runs runs);
  /// The run that holds a VCN and what is left of it from there; none after the end.
  [[nodiscard]] std::optional<Run> at(std::uint64_t vcn) const;
  [[nodiscard]] std::uint64_t clusters() const { return total_; }

 private:
  Runs runs_;
  std::vector<std::uint64_t> starts_;
  std::uint64_t total_ = 0;
};

}  // namespace nuvrat::ntfs

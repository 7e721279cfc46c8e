#pragma once
// A FAT in memory as runs: neighbours whose entries lead from one to the next. One sequential read
// makes it, and its size follows the number of fragments, not the size of the volume.

#include <functional>
#include <vector>

#include <nuvrat/device.h>

#include "base/budget.h"
#include "fat/boot.h"
#include "tree/runs.h"

namespace nuvrat::fat {
using tree::clusters_in;
using tree::Run;
using tree::Runs;

/// Ends of a chain, in the terms of FAT32 whatever the type.
inline constexpr std::uint32_t end_of_chain = 0x0FFFFFFF;
inline constexpr std::uint32_t bad_cluster = 0x0FFFFFF7;

struct ClusterRange {
  std::uint32_t first = 0;
  std::uint32_t count = 0;
};

class Map {
 public:
  /// Reads copy number `copy`; where the device doesn't give a sector of it, and the copies are to
  /// be equal, that of another one. Throws Error (device_read) where no copy is given.
  Map(const Device& device, const Geometry& geometry, std::uint32_t copy);

  enum class Fault { none, outside, free, bad, circle, shared };
  struct Chain {
    std::vector<ClusterRange> ranges;
    std::uint64_t clusters = 0;
    Fault fault = Fault::none;
    std::string text;  ///< of the fault
    [[nodiscard]] bool sound() const { return fault == Fault::none; }
  };
  /// For all chains of the volume together, in clusters.
  [[nodiscard]] base::Budget budget() const { return base::Budget(geometry_.clusters); }
  /// Follows a chain; a loop is cut once it is longer than the volume, anything once `budget` is
  /// used up.
  [[nodiscard]] Chain chain(std::uint32_t first, base::Budget& budget) const;

  [[nodiscard]] std::uint32_t free_clusters() const { return free_; }
  /// Neither free nor bad.
  [[nodiscard]] std::uint64_t used_clusters() const;
  [[nodiscard]] const std::vector<ClusterRange>& bad() const { return bad_; }
  [[nodiscard]] bool is_bad(std::uint32_t cluster) const;
  [[nodiscard]] bool clean() const { return clean_; }
  /// It isn't clean, and that is no garbage: its first entry is one.
  [[nodiscard]] bool left_open() const { return !clean_ && begins_well_; }
  /// Sectors of the volume that were read from another copy.
  [[nodiscard]] const SectorSet& replaced() const { return replaced_; }
  /// The lowest free cluster; 0: none.
  [[nodiscard]] std::uint32_t first_free() const;
  /// The parts of a range whose entries lead from one to the next.
  [[nodiscard]] std::vector<ClusterRange> runs_in(ClusterRange range) const;
  /// What the entry of the range's last cluster says.
  [[nodiscard]] std::uint32_t next_after(ClusterRange range) const;
  /// How many runs there are, and which of them holds a cluster that is in use.
  [[nodiscard]] std::size_t runs() const { return runs_.size(); }
  [[nodiscard]] std::size_t run_with(std::uint32_t cluster) const;
  /// Both say the same of every cluster.
  [[nodiscard]] bool same_as(const Map& other) const;
  /// Every cluster that is not free, bad ones included, in ascending order.
  void each_used(const std::function<void(ClusterRange)>& visit) const;

 private:
  struct Run {
    std::uint32_t first;
    std::uint32_t count;
    std::uint32_t next;  // the last entry
  };
  void take(std::uint32_t cluster, std::uint32_t entry);
  void read(const Device& device, std::uint64_t at, ByteSpan out);
  void read_fat12(const Device& device);
  void read_wide(const Device& device, std::uint32_t width);
  void take_flags(std::uint32_t cluster, std::uint32_t entry);

  const Geometry geometry_;
  std::uint64_t start_;  // in device sectors
  std::uint32_t ratio_;
  std::vector<Run> runs_;
  std::vector<ClusterRange> bad_;
  std::uint32_t free_ = 0;
  bool clean_ = true;
  bool begins_well_ = false;
  SectorSet replaced_;
};

/// What is said where sectors of a FAT were read from its copy.
[[nodiscard]] std::string unreadable_fat_words(std::uint64_t sectors);

}  // namespace nuvrat::fat

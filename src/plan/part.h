#pragma once
// What planners plan from, and what each comes to: values. A try that leads nowhere is one that is
// thrown away.

#include <optional>
#include <string>
#include <vector>

#include <nuvrat/assessment.h>

#include "disk/disk_state.h"

namespace nuvrat::plan {

/// A part of a plan, or what is in its way.
struct PlanPart {
  std::vector<Step> steps{};
  std::optional<Layout> after{};  ///< the layout that the steps end in, where they are about it
  std::vector<ExpectedChange> changes{};
  std::vector<Consent> consents{};

  std::vector<Obstacle> obstacles{};
  std::vector<Contents> added{};  ///< by new partitions
  std::optional<BootChange> boot{};

  [[nodiscard]] bool in_reach() const { return obstacles.empty(); }
  /// `text`: so short that it fits a line after the partition's name. `detail`: what else is known.
  void consent(ConsentCode code, PartitionId partition, std::string text, std::string detail = "");
  void obstacle(ObstacleCode code, std::string text, std::string remedy, std::uint64_t missing = 0,
                unsigned partition = 0);
  /// What is planned from the disk as this part leaves it. A consent is said once.
  void append(PlanPart next);
};

/// What a planner plans from.
struct PlanInput {
  const Device& device;          ///< the disk as earlier stages leave it
  const disk::DiskState& state;  ///< the same, as it is read
  const ReadOptions& options;
  Random& random;
  const Layout& before;     ///< before everything
  const PlanPart& planned;  ///< by earlier stages
  bool safe_names = false;  ///< names that FAT can't spell may become others

  /// The same for another disk.
  [[nodiscard]] PlanInput on(const Device& other, const disk::DiskState& as) const {
    return {other, as, options, random, before, planned, safe_names};
  }
};

/// Obstacles that every change of a table has: errors among the findings.
[[nodiscard]] std::vector<Obstacle> finding_obstacles(const disk::DiskState& state);

/// "partition 3", or "the volume" of a disk without a table.
[[nodiscard]] std::string volume_words(unsigned number);

}  // namespace nuvrat::plan

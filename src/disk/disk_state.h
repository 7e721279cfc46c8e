#pragma once
// A disk as it is, or as it will be once some steps are done: what planners plan from.

#include <nuvrat/step.h>
#include <nuvrat/survey.h>

namespace nuvrat::disk {

struct DiskState {
  TableReading table;                      ///< the table, and the sectors that it owns
  std::vector<SurveyedPartition> volumes;  ///< in disk order, an extended one before its logicals
  bool bare_volume = false;                ///< no table: the disk is one volume
  Systems systems;                         ///< of the disk as it is
  Findings findings;                       ///< of the disk as it is, all of them

  /// As surveyed.
  explicit DiskState(const Survey& survey);
  /// The table becomes this one. Volumes keep what they hold; a new partition holds nothing known.
  void set_layout(const Layout& layout);
  /// The partition's volume is of this kind now.
  void set_kind(PartitionId id, VolumeKind kind);
  /// The data partition that it is, or that has the number; null when there is none. The volume of
  /// a disk without a table has the number 0, and no id.
  [[nodiscard]] const SurveyedPartition* find(PartitionId id) const;
  [[nodiscard]] const SurveyedPartition* find(unsigned number) const;
};

}  // namespace nuvrat::disk

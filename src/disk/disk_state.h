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
  /// The table becomes this one. Volumes keep what they hold; a partition that begins where none
  /// did holds nothing known.
  void set_layout(const Layout& layout);
  /// The volume that begins there begins elsewhere in the next layout.
  void move_start(std::uint64_t from, std::uint64_t to);
  /// The volume that begins there is of this kind now.
  void set_kind(std::uint64_t start, VolumeKind kind);
  /// The data partition that begins there, or that has the number; null when there is none.
  [[nodiscard]] const SurveyedPartition* at(std::uint64_t start) const;
  [[nodiscard]] const SurveyedPartition* find(unsigned number) const;
};

}  // namespace nuvrat::disk

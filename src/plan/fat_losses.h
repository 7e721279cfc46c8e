#pragma once
// What files have that FAT can't hold, told in full: obstacles, consents, expected changes.

#include <utility>

#include "plan/part.h"
#include "steps/kinds.h"

namespace nuvrat::plan {

/// Bytes in front of a volume's FATs beyond those that are usual there; they hold nothing.
[[nodiscard]] std::uint64_t lost_bytes(const fat::Geometry& geometry);

class FatLosses {
 public:
  /// `name`: "partition 3". What it refers to must outlive it.
  FatLosses(const Partition& partition, const std::string& name, const ReadOptions& options)
      : number_(partition.number), id_(partition.id), name_(name), options_(options) {}

  /// What was found since the last time.
  [[nodiscard]] PlanPart take() { return std::exchange(out_, {}); }

  /// Obstacles, whatever is agreed to: files too large, encrypted ones, and those
  /// whose contents something above the file system keeps.
  void check_files(VolumeReader& reader);
  /// Names that FAT can't spell, or takes for another.
  void check_names(const FileTree& tree, bool from_fat);
  /// Everything else, to be agreed to. `way_made`: contents moved before, so that FATs find a
  /// place.
  void agree(const SurveyedPartition& s, const fat::Plan& plan, const steps::ToFat& work,
             bool way_made);

 private:
  void obstacle(ObstacleCode code, std::string text, std::string remedy);
  void consent(ConsentCode code, std::string text, std::string detail = "");
  void check_reparse_point(VolumeReader& reader, FileTree::Id id);
  void add_label_consent(const SurveyedPartition& s, const steps::ToFat& work);
  void add_name_consent(const SurveyedPartition& s, const fat::Plan& plan);
  void add_stream_consents(const SurveyedPartition& s, const FileTree& tree);
  void add_time_consents(const SurveyedPartition& s, const FileTree& tree);

  PlanPart out_;
  unsigned number_;
  PartitionId id_;
  const std::string& name_;
  const ReadOptions& options_;
  std::size_t told_reparse_ = 0;
};

}  // namespace nuvrat::plan

#pragma once
// What volumes become, each by itself.

#include "plan/part.h"
#include "tree/put_file.h"

namespace nuvrat::steps {
struct EditNtfs;
}

namespace nuvrat::plan {

/// A FAT volume becomes NTFS.
[[nodiscard]] PlanPart plan_volume_ntfs(const PlanInput& input, unsigned number);

/// What a volume is to be as FAT.
struct FatWish {
  std::optional<VolumeKind> kind{};    ///< none: as it is
  std::uint32_t cluster_bytes = 0;     ///< 0: whatever serves best
  std::uint64_t sectors = 0;           ///< how long; 0: as the partition
  std::uint64_t front = 0;             ///< sectors that it begins earlier
  std::vector<tree::PutFile> files{};  ///< put on it
};
/// A volume becomes FAT, or another FAT.
[[nodiscard]] PlanPart plan_volume_fat(const PlanInput& input, unsigned number,
                                       const FatWish& wish);

/// A FAT or NTFS volume gets another length: `sectors`, its second boot sector included, at most
/// those of its partition.
[[nodiscard]] PlanPart plan_volume_size(const PlanInput& input, unsigned number,
                                        std::uint64_t sectors);
/// A volume gets another label.
[[nodiscard]] PlanPart plan_volume_label(const PlanInput& input, unsigned number,
                                         const std::string& label);
/// The fewest sectors that the volume can be made to have, and at most `most`; to a thousandth.
[[nodiscard]] std::uint64_t min_sectors(const PlanInput& input, unsigned number,
                                        std::uint64_t most);
/// The most sectors that a volume of this kind and size of cluster can count, that one included.
[[nodiscard]] std::uint64_t max_sectors(const SurveyedPartition& s, std::uint32_t sector_bytes);
/// Sectors of a volume as it is, its second boot sector included.
[[nodiscard]] std::uint64_t length_of(const SurveyedPartition& s);
/// An obstacle where its kind can't count that many sectors.
[[nodiscard]] PlanPart require_countable(const PlanInput& input, const SurveyedPartition& s,
                                         std::uint64_t sectors);
/// What a step changes of a volume that stays what it is: its place, and how it is read.
[[nodiscard]] VolumeChange change_in_place(const SurveyedPartition& s, const ReadOptions& options);
/// NTFS or FAT, and read.
[[nodiscard]] bool is_editable(const SurveyedPartition& s);

/// Lays out an edit of an NTFS volume. An obstacle where it can't be done, which begins with
/// `doing`; what is to be agreed to; no steps.
[[nodiscard]] PlanPart lay_out_edit(const PlanInput& input, const SurveyedPartition& s,
                                    const std::string& doing, steps::EditNtfs& work);
/// A consent where an NTFS volume has restore points, which the change spoils.
[[nodiscard]] PlanPart tell_snapshots(const Device& volume, PartitionId partition);
/// A consent where long names of a FAT volume are damaged: what is made anew has the short ones.
[[nodiscard]] PlanPart tell_broken_names(const SurveyedPartition& volume);

}  // namespace nuvrat::plan

#pragma once
// What others keep on the disk where no table and no volume says so, and whether it sleeps.

#include "plan/part.h"

namespace nuvrat::plan {

/// Obstacles to every rewrite of the disk: systems that are hibernated on one of its volumes.
[[nodiscard]] std::vector<Obstacle> find_asleep(const Device& device, const Survey& survey,
                                                const ReadOptions& options);
/// Obstacles where a layer of its own manages the disk, or it belongs to a RAID.
[[nodiscard]] PlanPart require_nobody_elses(const disk::DiskState& state);
/// What planned steps overwrite or take that no table, partition or volume owns: `written` outside
/// volumes, gaps, what is after a volume's end. Consents, before all others; an obstacle where they
/// write on a member of a RAID.
[[nodiscard]] PlanPart tell_overwritten(const Device& device, const Survey& survey,
                                        const SectorSet& written, const Assessment& planned);

}  // namespace nuvrat::plan

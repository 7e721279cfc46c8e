#pragma once
// check --repair: what of volumes can be mended with nothing lost.

#include <set>

#include "plan/part.h"

namespace nuvrat::plan {

/// Of FAT volumes, but those on `left_alone`.
[[nodiscard]] PlanPart plan_fat_mends(const PlanInput& input, const Survey& survey, Unowned unowned,
                                      const std::set<PartitionId>& left_alone);
/// Of a volume of whose two boot sectors, or first records, one is lost; no steps where none is.
[[nodiscard]] PlanPart plan_copy_mend(const PlanInput& input, const SurveyedPartition& volume);

}  // namespace nuvrat::plan

#pragma once
// The label of a FAT volume: an entry of its root folder, and a copy of it in the boot sector.

#include "plan/part.h"

namespace nuvrat::plan {

/// A step that gives the volume of `change` this label, or an obstacle.
[[nodiscard]] PlanPart plan_fat_label(const PlanInput& input, const VolumeChange& change,
                                      const std::string& label);

}  // namespace nuvrat::plan

#pragma once
// What the planners of the single goals share.

#include <nuvrat/assessment.h>

namespace nuvrat {

/// Plans table=gpt on a disk surveyed in depth; fills everything but the figures.
void plan_table_gpt(Device& device, const Survey& survey, Random& random, Assessment& out);

/// Obstacles that every change of a table has: errors among the findings.
void add_finding_obstacles(const Survey& survey, Assessment& out);

/// Sectors of `range` that hold anything but zeros, up to `limit` sectors looked at.
[[nodiscard]] std::uint64_t used_sectors(const Device& device, SectorRange range,
                                         std::uint64_t limit = 4096);

}  // namespace nuvrat

// Changes inside a GPT: a second array in a free place, the header's one-sector switch, and back.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "plan/table.h"
#include "steps/kinds.h"

namespace nuvrat::plan {

PlanPart require_room_for_gpt(const Layout& target) {
  PlanPart out;
  for (const Partition& p : target.partitions) {
    if (p.start < target.first_usable) {
      const std::uint64_t missing = target.first_usable - p.start;
      out.obstacle(
          ObstacleCode::front_room,
          fmt::format("partition {} begins at sector {}; a GPT needs sectors 0 to {}, so {} "
                      "missing in front of it",
                      p.number, p.start, target.first_usable - 1,
                      plural(missing, "sector is", "sectors are")),
          fmt::format("Move its start to sector {} or later", target.first_usable), missing,
          p.number);
    }
    if (p.range().end() - 1 > target.last_usable) {
      const std::uint64_t missing = p.range().end() - 1 - target.last_usable;
      out.obstacle(
          ObstacleCode::back_room,
          fmt::format("partition {} ends at sector {}; the backup GPT needs sectors {} to {}, so "
                      "{} missing after it",
                      p.number, p.range().end() - 1, target.last_usable + 1,
                      target.disk_sectors - 1, plural(missing, "sector is", "sectors are")),
          fmt::format("Make it {} shorter, or continue on an image that is {} longer",
                      plural(missing, "sector", "sectors"), plural(missing, "sector", "sectors")),
          missing, p.number);
    }
    if (p.number > 128) {
      out.obstacle(
          ObstacleCode::too_many,
          fmt::format("partition {} has no place among the 128 entries of a GPT", p.number),
          "Delete partitions until there are 128 at most", 0, p.number);
    }
  }
  return out;
}

PlanPart plan_gpt_change(const PlanInput& input, const TableWish& wish) {
  PlanPart out{.obstacles = finding_obstacles(input.state)};
  Layout target = input.state.table.layout;
  // Others may have had fewer entries, and more sectors for partitions; what is written has 128.
  const SectorRange usable = target.usable();
  target.first_usable = usable.first;
  target.last_usable = usable.last();
  apply_small_wishes(wish, target);
  for (Partition p : wish.made) {
    p.role = Role::gpt;
    p.number = 1;
    while (target.find(p.number) != nullptr) ++p.number;
    if (p.unique_id.is_zero()) p.unique_id = Guid::random(input.random);
    if (p.number > 128) {
      out.obstacle(ObstacleCode::too_many, "all 128 entries of the GPT are taken",
                   "Delete a partition first");
      return out;
    }
    target.partitions.push_back(p);
  }
  target.sort();
  out.append(require_room_for_gpt(target));
  Layout as_it_was = target;
  as_it_was.first_usable = input.state.table.layout.first_usable;
  as_it_was.last_usable = input.state.table.layout.last_usable;
  if (as_it_was == input.state.table.layout) {
    out.obstacle(ObstacleCode::already, "the disk is in this state already",
                 "Nothing needs to be done");
  }
  if (out.in_reach()) out.append(table_steps(input, {.layout = target}));
  return out;
}

PlanPart gpt_change_steps(const PlanInput& input, const Layout& target) {
  PlanPart out;
  const std::uint64_t array = gpt_array_sectors(target.sector_size);
  // Nothing may lie there before or after.
  std::uint64_t first = target.last_usable + 1;
  std::uint64_t end = target.first_usable;
  for (const Layout* layout : {&input.state.table.layout, &target}) {
    for (const Partition& p : layout->partitions) {
      first = std::min(first, p.start);
      end = std::max(end, p.range().end());
    }
  }
  Layout aside = target;
  std::uint64_t lba = 0;
  const std::uint64_t front_room = first > target.first_usable ? first - target.first_usable : 0;
  const std::uint64_t back_room = target.last_usable + 1 > end ? target.last_usable + 1 - end : 0;
  if (front_room >= array) {
    lba = target.first_usable;
    aside.first_usable = lba + array;
  } else if (back_room >= array) {
    lba = target.last_usable + 1 - array;
    aside.last_usable = lba - 1;
  } else {
    const std::uint64_t missing = array - std::max(front_room, back_room);
    out.obstacle(
        ObstacleCode::no_room_aside,
        fmt::format("a second array of {} sectors is needed for a moment, in front of the first "
                    "partition ({} "
                    "free) or after the last one ({} free): {} missing",
                    array, front_room, back_room, plural(missing, "sector is", "sectors are")),
        fmt::format("Make the last partition {} shorter",
                    plural(array - back_room, "sector", "sectors")),
        missing);
    return out;
  }
  out.steps.push_back(Step(aside, {steps::GptAside{lba}}));
  out.steps.push_back(Step(target, {steps::GptHome{{{lba, array}}}}));
  out.after = target;
  return out;
}

}  // namespace nuvrat::plan

#pragma once
// Room: how long partitions become, where they begin, and which are made in gaps.

#include <map>

#include "goals/asked.h"
#include "plan/part.h"
#include "tree/put_file.h"

namespace nuvrat::plan {

struct Lengths {
  std::map<PartitionId, std::uint64_t> sectors{};
  PlanPart part{};  ///< obstacles where there is no room; no steps
};
/// What the sizes that are asked for come to.
[[nodiscard]] Lengths resolve_sizes(const PlanInput& input, const goals::Asked& asked);

/// A volume and its partition begin earlier, in the room that the disk of `input` has there.
[[nodiscard]] PlanPart plan_front(const PlanInput& input, unsigned number,
                                  std::optional<std::uint64_t> bytes);

/// An EFI system partition in whatever gap there is.
struct NewEfi {
  std::uint64_t bytes = 0;  ///< as wished
  std::uint64_t least = 0;  ///< what will do
  Guid id{};
  std::vector<tree::PutFile> files{};
};
/// Steps for new partitions in gaps of the disk as it is in `input`, and what is in them. `efi`:
/// beside those that are asked for; null: none.
[[nodiscard]] PlanPart plan_new_partitions(const PlanInput& input, const goals::Asked& asked,
                                           const NewEfi* efi);

}  // namespace nuvrat::plan

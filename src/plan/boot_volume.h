#pragma once
// Boot files on the volumes of the disk that is planned from.

#include <memory>
#include <string>

#include "boot/systems.h"
#include "plan/part.h"
#include "volume/paths.h"

namespace nuvrat::plan {

/// One volume by its paths; `files` is null where it can't be read. What is read here is written
/// again, and nothing was recorded of it: it is read twice, and must be the same.
struct OpenVolume {
  OpenVolume(const PlanInput& in, const Partition& p);
  std::unique_ptr<Window> window;
  std::unique_ptr<volume::PathReader> files;
};

/// A boot store or the hive with letters, or why it can't be changed.
struct FoundHive {
  Bytes file;
  std::string fault;
};
[[nodiscard]] FoundHive open_hive(volume::PathReader& files, const std::string& path,
                                  std::uint64_t most);

/// Nothing but what firmware needs for a start of this way.
[[nodiscard]] bool only_boot_files(volume::PathReader& files, BootWay way);

}  // namespace nuvrat::plan

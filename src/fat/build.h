#pragma once
// Writes a planned FAT volume: everything but its first sector, which makes it count, and what lies
// in the reserved sectors.

#include <functional>
#include <string_view>

#include <nuvrat/function_ref.h>

#include "fat/plan.h"

namespace nuvrat::fat {

struct BuildCallbacks {
  /// Takes whole sectors, counted from the volume's first one.
  std::function<void(std::uint64_t sector, ByteView data)> write;
  /// Gives the contents of sectors, as the volume is now and as it counts them.
  std::function<void(std::uint64_t sector, ByteSpan out)> read;
  /// Gives the contents of a file that lies elsewhere than in its extents.
  std::function<void(FileTree::Id id, ByteSink sink)> contents;
  /// Told what the sectors that follow are for.
  std::function<void(std::string_view what)> announce;
};

/// Streams the volume in the order of the plan, nothing twice.
void write_volume(const Plan& plan, const BuildCallbacks& to);

}  // namespace nuvrat::fat

#pragma once
// Files on a device that doesn't give all of them.

#include <functional>
#include <vector>

#include <nuvrat/manifest.h>

namespace nuvrat {

/// Gives a file's contents in order and in pieces, zeros where a sector can't be read, and nothing
/// after the last sector that it has; returns those parts, in its own bytes. Throws Error (damaged)
/// where it can't be said what is where.
[[nodiscard]] std::vector<ByteRange> read_readable(VolumeReader& reader, FileTree::Id id,
                                                   const std::function<void(ByteView)>& sink);

}  // namespace nuvrat

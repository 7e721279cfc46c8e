#pragma once
// Files on a device that doesn't give all of them.

#include <functional>
#include <string>
#include <vector>

#include <nuvrat/function_ref.h>
#include <nuvrat/manifest.h>

namespace nuvrat::tree {

struct Readable {
  std::vector<ByteRange> missing;  ///< of the file's own bytes, in whole sectors
  std::string reason;              ///< where it isn't that sectors can't be read
};
/// Gives a file's contents in order and in pieces, zeros where a sector can't be read, and nothing
/// after the last byte that can be had. Throws Error (damaged) where it can't be said what is
/// where.
[[nodiscard]] Readable read_readable(VolumeReader& reader, FileTree::Id id, ByteSink sink);

}  // namespace nuvrat::tree

#pragma once
// A file that a rewrite puts on a volume.

#include <string>

#include <nuvrat/bytes.h>
#include <nuvrat/time.h>

namespace nuvrat::tree {

struct PutFile {
  std::string path;  ///< from the root, "Boot/BCD"; folders that aren't there are made
  Bytes contents;
  std::uint32_t attributes = 0;  ///< of a new one; one that is there keeps its own, and its times
  Ticks modified = 0;  ///< the times of a new one, and of folders made for it; 0: the step's
};

}  // namespace nuvrat::tree

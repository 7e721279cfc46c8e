#pragma once
// Where results may go. A result written over a disk, or over the only image of one, is the one
// mistake that nothing brings back: every place is asked before hours of reading, and again never.

#include <string>
#include <vector>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

struct OutputRules {
  bool overwrite = false;          ///< an ordinary file that exists may be replaced
  std::vector<std::string> disks;  ///< the disks and images that the work is about
};

/// Whether a result may be written to `path`: a new file in a folder that may be written, a pipe, a
/// character device, or "-" for standard output. Throws Error (refused) for one of `disks` under
/// whatever name (symbolic and hard links, the file behind a loop device), for a block device, for
/// a file that holds a disk image or a volume, and for any other file that exists unless
/// `overwrite` is set; (file) where nothing can be written.
void check_output(const std::string& path, const OutputRules& rules);

}  // namespace nuvrat

// Every parser that takes what a disk or a file holds.

#include "fuzz.h"

namespace fuzz {

const std::vector<Target>& targets() {
  static const std::vector<Target> all = [] {
    std::vector<Target> out;
    for (const auto& some : {table_targets(), fat_targets(), ntfs_targets(), file_targets(),
                             rewrite_targets(), boot_targets(), device_targets()})
      out.insert(out.end(), some.begin(), some.end());
    return out;
  }();
  return all;
}

}  // namespace fuzz

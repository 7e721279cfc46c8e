#pragma once
// The names in a folder, as its index holds them.

#include <string>
#include <vector>

#include "ntfs/volume.h"

namespace nuvrat {

struct IndexedName {
  std::uint64_t reference = 0;
  std::u16string name;
  std::uint8_t space = 0;
};

/// Every name of a folder, over its blocks from the root on; no block twice. Throws Error
/// (damaged).
[[nodiscard]] std::vector<IndexedName> read_folder_index(const NtfsVolume& volume,
                                                         const std::vector<AttributeView>& folder);

}  // namespace nuvrat

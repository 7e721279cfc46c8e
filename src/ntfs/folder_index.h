#pragma once
// The names in a folder, as its index holds them.

#include <string>
#include <vector>

#include "ntfs/volume.h"

namespace nuvrat::ntfs {

struct IndexedName {
  std::uint64_t reference = 0;
  std::u16string name;
  std::uint8_t space = 0;
};

/// What could be read of a folder, and why the rest could not.
struct FolderNames {
  std::vector<IndexedName> names;
  std::vector<std::string> faults;
};

/// Blocks one below the other that an index may have: more names than a volume has records would
/// not fill them.
inline constexpr std::size_t max_index_depth = 64;

/// A name as an index holds it: the reference, and the key, which is a FILE_NAME.
using VisitName = std::function<void(std::uint64_t reference, ByteView key)>;
/// Gives every name of a folder, and returns why the rest could not be read. As the next one.
[[nodiscard]] std::vector<std::string> each_indexed_name(const Volume& volume, std::uint64_t number,
                                                         const std::vector<AttributeView>& folder,
                                                         const VisitName& visit);

/// Every name of a folder, over its blocks from the root on; no block twice, and no name of another
/// folder, so that two folders can't have the same blocks. What lies below a damaged block is a
/// fault. `number` is the folder's record. Throws Error (damaged) when there is no index at all.
[[nodiscard]] FolderNames read_folder_index(const Volume& volume, std::uint64_t number,
                                            const std::vector<AttributeView>& folder);

}  // namespace nuvrat::ntfs

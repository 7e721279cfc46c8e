#pragma once
// One FAT directory: from its bytes to entries.

#include <vector>

#include <nuvrat/file_tree.h>
#include <nuvrat/finding.h>
#include <nuvrat/volume.h>

#include "fat/names.h"

namespace nuvrat::fat {

struct DirectoryItem {
  std::u16string name;        ///< the long name, or the short one in its case
  std::u16string short_name;  ///< as the 8.3 entry says
  bool has_long = false;      ///< the name is a long one
  FileTree::Info info;
  std::uint32_t cluster = 0;
  std::uint32_t index = 0;  ///< of its 8.3 entry in the directory
};

struct DirectoryContents {
  std::vector<DirectoryItem> items;
  std::optional<std::array<std::uint8_t, 11>> label;
  std::optional<std::uint32_t> own_cluster{};  ///< what "." says, where it comes first
  std::vector<std::uint32_t> orphans;          ///< entries of long names without a short one
};

/// `bytes` is the directory's contents, at most max_directory_bytes of it. "." and ".." and
/// deleted entries are left out.
[[nodiscard]] DirectoryContents parse_directory(ByteView bytes, const CodePage& page,
                                                const Zone& zone);

}  // namespace nuvrat::fat

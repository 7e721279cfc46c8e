#pragma once
// What was recorded of a volume, node by node beside what is there now.

#include <map>
#include <string>
#include <vector>

#include <nuvrat/expected_change.h>

#include "tree/recording.h"

namespace nuvrat::tree {

/// Told what is on both sides and on one; `folder` is the path, on the recorded side, of the
/// folder that holds the node.
class NodePairs {
 public:
  NodePairs() = default;
  NodePairs(const NodePairs&) = delete;
  NodePairs& operator=(const NodePairs&) = delete;
  virtual ~NodePairs() = default;
  virtual void both(const RecordedNode& then, const std::u16string& folder, FileTree::Id now) = 0;
  /// Of what such a folder held nothing is told.
  virtual void gone(const RecordedNode& /*then*/, const std::u16string& /*folder*/) {}
  /// What such a folder holds is not told either.
  virtual void came(FileTree::Id /*now*/) {}
};

/// New names by the folder's path and the old name.
using Renamings = std::map<std::u16string, std::map<std::u16string, std::u16string>>;
/// Those expected on the partition's volume.
[[nodiscard]] Renamings renamings(const std::vector<ExpectedChange>& changes,
                                  PartitionId partition);

/// Pairs by path, renamed ones with what they have become.
void pair_nodes(RecordedNodes& recorded, const FileTree& now, const Renamings& renamed,
                NodePairs& pairs);

/// "folder/name"; the name alone in the root.
[[nodiscard]] std::u16string path_in(const std::u16string& folder, std::u16string_view name);

}  // namespace nuvrat::tree

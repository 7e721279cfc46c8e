#pragma once
// Files that a rewrite puts on a volume which is written from a tree.

#include <map>
#include <vector>

#include <nuvrat/file_tree.h>

#include "tree/put_file.h"

namespace nuvrat::steps {

/// Which of the files is a node's contents.
using PlacedFiles = std::map<FileTree::Id, std::size_t>;

/// Adds them to the tree, stored elsewhere: new nodes bear `made` as their times, and those that
/// are there keep theirs. Letters of ASCII count alike in either case. Throws Error (refused) where
/// a file is in a path, or a folder has a file's name.
[[nodiscard]] PlacedFiles put_files(const std::vector<tree::PutFile>& files, Ticks made,
                                    FileTree& tree);

}  // namespace nuvrat::steps

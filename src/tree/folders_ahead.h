#pragma once
// Something told of every folder of a tree, on every core.

#include <utility>
#include <vector>

#include <nuvrat/bytes.h>
#include <nuvrat/file_tree.h>

#include "base/ahead.h"

namespace nuvrat::tree {

/// Calls tell(id) for every folder, on other threads, and visit(id, what it returned) on the
/// calling one, in the tree's order. `tell` must only read what it shares.
template <typename Tell, typename Visit>
void each_folder_ahead(const FileTree& tree, Tell tell, Visit visit) {
  constexpr std::size_t batch = 8192;  // nodes
  base::make_ahead(
      div_up(tree.size(), batch),
      [&](std::size_t i) {
        std::vector<std::pair<FileTree::Id, decltype(tell(FileTree::root))>> out;
        const std::size_t end = std::min(tree.size(), (i + 1) * batch);
        for (auto id = static_cast<FileTree::Id>(i * batch); id < end; ++id) {
          if (tree.is_directory(id)) out.emplace_back(id, tell(id));
        }
        return out;
      },
      [&](const auto& made) {
        for (const auto& [id, told] : made) visit(id, told);
      });
}

}  // namespace nuvrat::tree

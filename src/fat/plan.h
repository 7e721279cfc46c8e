#pragma once
// Where everything of a new FAT volume goes, for any tree of files, decided before a byte of it is
// written.
//
// Contents stay where they are as far as they lie on the new grid of clusters. What doesn't (in
// front of the data area, off the grid, packed, never written) is copied to clusters that are free
// now, and so are the folders made there. The FATs lie on sectors that are free now.

#include <map>
#include <memory>
#include <optional>
#include <vector>

#include <nuvrat/file_tree.h>
#include <nuvrat/sectors.h>
#include <nuvrat/text.h>

#include "fat/boot.h"
#include "fat/fat_map.h"
#include "tree/runs.h"

namespace nuvrat::fat {

struct Target {
  Geometry geometry;  ///< serial, label and hidden sectors too; the plan sets the root's cluster
  unsigned codepage = 437;                ///< of short names
  Zone zone;                              ///< what local time the entries hold
  std::shared_ptr<const SectorSet> free;  ///< sectors that may be written before the switch
  SectorSet bad;                          ///< sectors that nothing may use
  std::uint64_t front = 0;  ///< sectors that the new volume begins earlier than the tree's
  /// Names other than the tree's.
  std::map<FileTree::Id, std::u16string> names{};
};

class NewDirectory;

class Plan {
 public:
  /// The tree must outlive the plan. Streams of files, which FAT hasn't, are left out. Throws Error
  /// (refused) for a folder of more entries than FAT knows.
  Plan(const FileTree& tree, Target target);

  /// Room for everything, the FATs on free sectors.
  [[nodiscard]] bool fits() const { return missing_ == 0 && fats_are_free(); }
  [[nodiscard]] bool fats_are_free() const;
  [[nodiscard]] std::uint64_t needed_clusters() const { return needed_; }
  [[nodiscard]] std::uint64_t free_clusters() const { return free_; }
  /// Clusters of contents that are written, because they can't stay where they are.
  [[nodiscard]] std::uint64_t copied_clusters() const { return copied_; }
  [[nodiscard]] const Geometry& geometry() const { return target_.geometry; }
  [[nodiscard]] const FileTree& tree() const { return tree_; }
  [[nodiscard]] const Target& target() const { return target_; }

  /// Neighbouring clusters of a file, by their order in it.
  struct Part {
    std::uint64_t index = 0;  ///< in clusters from the file's first
    ClusterRange clusters;
    bool copied = false;
  };
  [[nodiscard]] std::vector<Part> parts_of(FileTree::Id id) const;
  [[nodiscard]] std::vector<ClusterRange> chain_of(FileTree::Id id) const;
  /// 0 for a file without contents and for the fixed root.
  [[nodiscard]] std::uint32_t first_cluster(FileTree::Id id) const;
  /// Every file and folder with clusters, in the tree's order.
  template <typename Visit>
  void each_chain(Visit visit) const {
    for (FileTree::Id id = 0; id < tree_.size(); ++id) {
      if (const auto chain = chain_of(id); !chain.empty()) visit(chain);
    }
  }
  [[nodiscard]] const std::map<FileTree::Id, Runs>& given() const { return given_; }
  /// The folder's entries, but for first clusters; `items` are their nodes and places.
  struct Entry {
    FileTree::Id id;
    std::size_t index;
  };
  [[nodiscard]] std::unique_ptr<NewDirectory> directory_of(FileTree::Id folder,
                                                           std::vector<Entry>& entries) const;
  /// Files and folders whose short names FAT can't keep.
  [[nodiscard]] const std::vector<FileTree::Id>& unkept_short_names() const { return unkept_; }
  [[nodiscard]] std::vector<ClusterRange> bad_clusters() const;
  [[nodiscard]] std::uint64_t clusters_in_use() const { return used_; }
  /// The first cluster that nothing uses; 0: none.
  [[nodiscard]] std::uint32_t first_free() const;

 private:
  // What of a file stays: as parts_of, without those that are copied.
  [[nodiscard]] std::vector<Part> staying(FileTree::Id id) const;

  const FileTree& tree_;
  Target target_;
  std::unique_ptr<CodePage> page_;
  std::map<FileTree::Id, Runs> given_;  // clusters that were free, by node
  std::vector<FileTree::Id> unkept_;
  std::uint64_t needed_ = 0;
  std::uint64_t free_ = 0;
  std::uint64_t missing_ = 0;
  std::uint64_t copied_ = 0;
  std::uint64_t used_ = 0;
};

/// Names for what FAT can't spell, or takes for another name of the folder: safe_name(), and a
/// number where that is taken.
[[nodiscard]] std::map<FileTree::Id, std::u16string> safe_names(const FileTree& tree);

/// Entries of 32 bytes that the tree's root folder takes, the label's included.
[[nodiscard]] std::uint64_t root_entries_of(const FileTree& tree, const Target& target);

}  // namespace nuvrat::fat

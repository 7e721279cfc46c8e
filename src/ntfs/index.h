#pragma once
// Indexes in the making: sorted entries become a B tree of blocks, built from the leaves up.

#include <vector>

#include <nuvrat/bytes.h>

#include "ntfs/records.h"

namespace nuvrat::ntfs {

/// One entry without its place in the tree: a reference (or, in a view index, where its data lies)
/// and a key.
struct IndexItem {
  std::uint64_t head = 0;  ///< the first eight bytes
  std::uint16_t key_length = 0;
  Bytes body;  ///< the key, and in a view index its data
};

/// Bytes of an entry that has no child.
[[nodiscard]] std::size_t entry_bytes(std::size_t body);

/// Which entries are in which block. Blocks are numbered in the order in which they are closed;
/// the last one is the top.
class IndexShape {
 public:
  /// `sizes`: bytes of each entry, in the index's order; at least one.
  explicit IndexShape(const std::vector<std::uint32_t>& sizes,
                      std::uint64_t block_bytes = index_block_bytes);

  static constexpr std::uint32_t no_child = 0xFFFFFFFF;
  struct Place {
    std::uint32_t item;  ///< or no_child for the end entry
    std::uint32_t child;
  };
  [[nodiscard]] std::size_t blocks() const { return blocks_.size(); }
  [[nodiscard]] const std::vector<Place>& block(std::size_t i) const { return blocks_[i]; }
  [[nodiscard]] std::uint64_t block_bytes() const { return block_bytes_; }

 private:
  std::uint64_t block_bytes_;
  std::vector<std::vector<Place>> blocks_;
};

/// A block with its update sequence. `unit`: bytes that a VCN counts.
[[nodiscard]] Bytes index_block(const IndexShape& shape, std::size_t number,
                                const std::vector<IndexItem>& items, std::uint64_t unit);

/// What an INDEX_ROOT needs to know of the volume.
struct IndexKind {
  std::uint32_t type = at_file_name;  ///< of the indexed attribute; 0 in view indexes
  std::uint32_t collation = collate_file_name;
  std::uint64_t unit = 4096;
  std::uint64_t block_bytes = index_block_bytes;
};
/// An INDEX_ROOT that holds every entry.
[[nodiscard]] Bytes small_index_root(const IndexKind& kind, const std::vector<IndexItem>& items);
/// An INDEX_ROOT that only leads to the top block.
[[nodiscard]] Bytes large_index_root(const IndexKind& kind, std::size_t blocks);

}  // namespace nuvrat::ntfs

#pragma once
// Contents known by where they are: the sectors that a file lies on, in order. What can't be told
// by that alone is hashed.

#include <optional>
#include <vector>

#include <nuvrat/expected_change.h>
#include <nuvrat/manifest.h>

#include "tree/recording.h"

namespace nuvrat::tree {

/// The sectors that a file's bytes are on, in order, neighbours as one, holes among them; what
/// follows its end in the last cluster doesn't count. Empty: it has none of its own, or fewer than
/// its size says.
[[nodiscard]] std::vector<SectorRange> content_runs(const FileTree& tree, FileTree::Id id,
                                                    std::uint32_t sector_size);

/// A digest of the place of a file's contents on the disk; `start` is the volume's first sector.
/// None for a file without sectors of its own, or with fewer than its size says.
[[nodiscard]] std::optional<Digest> place_digest(const FileTree& tree, FileTree::Id id,
                                                 std::uint64_t start, std::uint32_t sector_size);

/// The same of a partition that is recorded as a whole.
[[nodiscard]] Digest range_place(SectorRange range);

/// Whether so much of the file reads as zeros without a sector being read that its hash takes holes
/// by their length: docs/formats/manifest.md.
[[nodiscard]] bool has_long_holes(const FileTree& tree, FileTree::Id id, std::uint32_t sector_size);

struct HashedFile {
  FileTree::Id id = FileTree::none;
  Digest digest;
  std::vector<ByteRange> unreadable;
};
/// Hashes the contents of files that have sectors of their own, in the order of the disk.
[[nodiscard]] std::vector<HashedFile> hash_files(const Device& volume, const FileTree& tree,
                                                 std::vector<FileTree::Id> ids, Progress& progress);

struct Settling {
  const Expectation& expectation;  ///< pairs partitions
  const SectorSet& written;        ///< in between
  Progress& progress;
};
/// Hashes, on each side, what places alone can't tell: what lies elsewhere on the other side, and
/// what lies on sectors that were written in between. The hash takes the place's place in what was
/// recorded.
void hash_unsettled(Recording& before, const Device& was, Manifest& after, const Device& is,
                    const Settling& by);
/// The same where only the disk of now is at hand.
void hash_unsettled(const Recording& before, Manifest& after, const Device& is, const Settling& by);

}  // namespace nuvrat::tree

#pragma once
// What was recorded, as the first side of a comparison. Its nodes come one after the other, from
// a manifest at hand or from a file where they were put aside: a job need not hold two manifests.

#include <filesystem>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include <nuvrat/manifest.h>

#include "base/descriptor.h"

namespace nuvrat::tree {

struct RecordedNode {
  FileTree::Id parent = FileTree::none;  ///< in the tree that was recorded
  FileTree::Id id = FileTree::none;
  std::u16string name{};
  FileTree::Info info{};
  std::uint64_t valid_bytes = 0;
  Digest digest{};
  bool placed = false;
  std::vector<SectorRange> runs{};  ///< see content_runs
  std::vector<ByteRange> unreadable{};
};

/// Folder by folder, a folder before those that it holds: all that one holds, by name, then all
/// that the next one holds.
class RecordedNodes {
 public:
  RecordedNodes() = default;
  RecordedNodes(const RecordedNodes&) = delete;
  RecordedNodes& operator=(const RecordedNodes&) = delete;
  virtual ~RecordedNodes() = default;
  /// False: there are no more. Throws Error (file) where what was put aside can't be read.
  [[nodiscard]] virtual bool next(RecordedNode& out) = 0;
};

/// Contents of places, hashed after these were recorded.
struct SettledPlaces {
  struct Place {
    Digest place, contents;
  };
  std::vector<Place> places{};                            ///< sorted by place
  std::map<Digest, std::vector<ByteRange>> unreadable{};  ///< by place
};

/// A volume but for its nodes.
struct RecordedVolume {
  unsigned number = 0;
  std::uint64_t start = 0;
  std::uint64_t sectors = 0;
  VolumeInfo info{};
  TimePrecision precision{};
  std::vector<LeftOut> left_out{};
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
  std::uint64_t unreadable = 0;  ///< files of which something could not be read
  std::size_t at = 0;            ///< among all that were recorded
};

class Recording {
 public:
  /// The manifest must outlive it, as it is.
  explicit Recording(const Manifest& manifest);
  /// Takes the manifest's nodes to a file without a name on the medium of `folder`, which is gone
  /// with the recording. Where no such file can be written it keeps the manifest.
  [[nodiscard]] static Recording put_aside(Manifest manifest, const std::filesystem::path& folder);

  [[nodiscard]] const std::vector<RecordedVolume>& volumes() const { return volumes_; }
  [[nodiscard]] const std::vector<ManifestRange>& ranges() const { return head_.ranges; }
  [[nodiscard]] std::unique_ptr<RecordedNodes> nodes(const RecordedVolume& volume) const;
  /// Of the volume that begins there; null where none does.
  [[nodiscard]] std::unique_ptr<RecordedNodes> nodes_at(std::uint64_t start) const;

  /// The nodes of the volume that are on these places have these contents from now on.
  void settle(std::uint64_t start, SettledPlaces places);
  void settle(const ManifestRange& range);
  /// A manifest again, of what a manifest's file says: short names and what else it leaves out
  /// don't come back.
  [[nodiscard]] Manifest bring_back() const;

  /// Leaves out all partitions but those that begin there.
  void choose(const std::set<std::uint64_t>& starts);

  [[nodiscard]] Proof proof() const { return head_.proof; }
  [[nodiscard]] bool chosen() const { return head_.chosen; }
  [[nodiscard]] std::uint64_t files() const;
  [[nodiscard]] std::uint64_t bytes() const;
  [[nodiscard]] std::uint64_t left_out() const;
  [[nodiscard]] std::uint64_t unreadable_files() const;
  [[nodiscard]] std::uint64_t unreadable_ranges() const;
  /// Empty by places, and where some were chosen of what was put aside.
  [[nodiscard]] std::string seal() const;

 private:
  Manifest head_;  // all but its volumes
  std::vector<RecordedVolume> volumes_;
  std::map<std::uint64_t, SettledPlaces> settled_;  // by the volume's first sector

  void write_nodes(const Manifest& manifest);

  std::unique_ptr<const Manifest> kept_;
  const Manifest* manifest_ = nullptr;  // at hand; or else
  base::Descriptor file_;
  std::vector<std::uint64_t> begins_;  // in the file, by volume; the file's end
  std::string seal_;
};

/// The seal of a manifest with these volumes.
[[nodiscard]] std::string seal_of(const std::vector<const ManifestVolume*>& volumes);

}  // namespace nuvrat::tree

#pragma once
// The record of every file on a disk: a rewrite is verified by it.
//
// A manifest has a volume for each partition that Nuvrat can read, with a tree of names and a hash
// of every content, and a range hash for each partition that it can't. The seal is one short value
// over all paths, sizes and contents, in disk order; the file system that holds them has no part in
// it.

#include <iosfwd>
#include <map>
#include <set>
#include <string>
#include <vector>

#include <nuvrat/checksum.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/progress.h>
#include <nuvrat/volume.h>

namespace NUVRAT_API nuvrat {

struct ByteRange {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  bool operator==(const ByteRange&) const = default;
};

/// The method by which a job verifies that contents are the same.
enum class Proof : std::uint8_t {
  contents,  ///< every file is read and hashed
  /// By the sectors that each file lies on. What has no sectors of its own is hashed, and so is, in
  /// a job, what moves or what the job writes over. Bytes that change in place are not seen.
  places,
};
[[nodiscard]] const char* name_of(Proof proof);

struct ManifestVolume {
  unsigned number = 0;  ///< the partition's number; 0 for a volume without a table
  std::uint64_t start = 0;
  std::uint64_t sectors = 0;
  VolumeInfo info;
  FileTree tree;
  std::vector<Digest> digests;  ///< by node; zero for directories
  /// By node: the digest is one of its place, not of its contents. Empty: none is.
  std::vector<bool> placed;
  std::map<FileTree::Id, std::vector<ByteRange>>
      unreadable;  ///< parts that the device did not give
  /// Files with 4 GiB or more in holes: their hash takes a hole by its length, and is no SHA-256 of
  /// their contents. Of a manifest that was loaded it isn't known which these are.
  std::set<FileTree::Id> holes_by_length;
  std::vector<LeftOut> left_out;  ///< what could not be read, and is therefore not in the tree
  /// In a rehearsal: not one of its sectors was written since it was recorded, so it was not read
  /// again, and the tree is empty.
  bool untouched = false;
  [[nodiscard]] std::vector<FileTree::Id> encrypted() const;
  [[nodiscard]] bool is_placed(FileTree::Id id) const { return id < placed.size() && placed[id]; }
};

/// A partition whose contents Nuvrat does not read.
struct ManifestRange {
  unsigned number = 0;
  std::uint64_t start = 0;
  std::uint64_t sectors = 0;
  std::string description;
  Digest digest;  ///< see range_digest
  std::vector<ByteRange> unreadable;
  bool holds_nothing = false;  ///< an empty reserved partition, which a rewrite may drop
  std::string fault{};         ///< why a volume that should be readable is recorded like this
  bool placed = false;         ///< the digest is one of its place, not of its contents
  /// Some of it could not be read, though nothing should stand in the way.
  [[nodiscard]] bool is_unreadable() const { return fault.empty() && !unreadable.empty(); }
};

struct Manifest {
  std::string device;
  std::string zone;
  std::uint32_t sector_size = 512;
  std::vector<ManifestVolume> volumes;  ///< in disk order
  std::vector<ManifestRange> ranges;    ///< in disk order
  bool chosen = false;                  ///< only of some partitions: it says nothing of the others
  Proof proof = Proof::contents;
  /// Of the device, when all was read: what was read first may not be what is there any more. Not
  /// saved.
  std::string disturbance{};

  [[nodiscard]] std::uint64_t files() const;
  [[nodiscard]] std::uint64_t directories() const;
  [[nodiscard]] std::uint64_t bytes() const;
  /// Files of which something could not be read.
  [[nodiscard]] std::uint64_t unreadable_files() const;
  /// The same of partitions recorded as a whole; not of those that are `fault`.
  [[nodiscard]] std::uint64_t unreadable_ranges() const;
  /// Places that could not be read, so that what they hold is not recorded: folders, files, whole
  /// volumes.
  [[nodiscard]] std::uint64_t left_out() const;
  /// Everything of the disk, or of the partitions that were chosen, is in it.
  [[nodiscard]] bool whole() const {
    return unreadable_files() == 0 && unreadable_ranges() == 0 && left_out() == 0;
  }
  /// Files, and partitions recorded as a whole, of which only the place is recorded.
  [[nodiscard]] std::uint64_t placed() const;
  /// Five groups of five characters. By places it is good for one disk only: it says nothing of
  /// contents.
  [[nodiscard]] std::string seal() const;
};

/// Hashes the contents of every file: read by the calling thread in the order in which they lie on
/// the disk, hashed on every core. `start` is the volume's first absolute sector. Takes the
/// reader's tree.
[[nodiscard]] ManifestVolume record_volume(VolumeReader& reader, std::uint64_t start,
                                           Progress& progress, Proof proof = Proof::contents);

/// One hash of a range that is read but not understood: SHA-256 over the SHA-256 of each MiB. Holes
/// of sparse images cost next to nothing.
[[nodiscard]] Digest range_digest(const Device& device, SectorRange range, Progress& progress,
                                  std::vector<ByteRange>& unreadable);

/// JSON Lines; docs/formats/manifest.md. Returns the seal.
std::string save_manifest(const Manifest& manifest, const std::string& path);
/// Throws Error (file) naming the line that is wrong; the totals and the seal at the end must
/// agree.
[[nodiscard]] Manifest load_manifest(const std::string& path);
/// Lines of "hash  path", as the ordinary checksum program reads them. Paths begin with "pN/" when
/// `with_partition`. Files whose hash takes holes by their length are left out; returns their
/// paths, for people.
std::vector<std::string> save_sha256sum(const Manifest& manifest, const std::string& path,
                                        bool with_partition);

enum class DifferenceKind {
  missing,
  extra,
  kind,
  size,
  content,
  place,  ///< lies on other sectors; whether its contents are the same isn't known
  times,
  attributes,
  range,
  volume,
  label
};
[[nodiscard]] const char* name_of(DifferenceKind kind);

struct Difference {
  DifferenceKind kind = DifferenceKind::content;
  unsigned number = 0;  ///< the partition's number on the disk as it is now, or before when missing
  std::string path;     ///< empty for a whole partition
  std::string text;     ///< what it was and what it is
};

struct Comparison {
  std::vector<Difference> differences;  ///< at most max_listed of them
  /// Changes that a job was to make, and made: no part of the others. At most max_listed of them.
  std::vector<Difference> planned;
  std::uint64_t planned_count = 0;
  std::uint64_t count = 0;                          ///< all differences
  std::map<DifferenceKind, std::uint64_t> by_kind;  ///< the same, by kind
  std::uint64_t recorded = 0;                       ///< files that were recorded
  std::uint64_t same = 0;  ///< of them, found with the contents, or on the sectors, of then
  /// Of a job: files that were recorded and are found as recorded; their bytes; files that are
  /// there and are as planned, not as recorded (contents, size, name, times); those of partitions
  /// that were to be deleted; new ones as planned.
  std::uint64_t unchanged = 0, unchanged_bytes = 0, changed = 0, deleted = 0, added = 0;
  std::string seal_before;  ///< by places both are empty
  std::string seal_after;
  std::uint64_t left_out = 0;    ///< places that could not be read, on the side with more of them
  std::uint64_t unreadable = 0;  ///< the same of files that are there, but not all of them
  std::uint64_t unreadable_ranges = 0;  ///< the same of partitions recorded as a whole
  bool chosen = false;                  ///< only some partitions were recorded
  Proof proof = Proof::contents;
  std::uint64_t by_place = 0;  ///< files, and whole partitions, compared by place alone
  /// Files on volumes that could not be read before, and were to be again: there is nothing to hold
  /// them against but the sectors of their volume.
  std::uint64_t opened = 0;
  std::uint64_t opened_bytes = 0;
  bool accessed = true;  ///< access times were compared, too
  static constexpr std::size_t max_listed = 1000;
  [[nodiscard]] bool equal() const { return count == 0; }
  /// Something could not be compared, because it could not be read.
  [[nodiscard]] bool partial() const { return left_out + unreadable + unreadable_ranges > 0; }
};

enum class AccessTimes { compared, left };  ///< a system changes them by reading

/// Holds `after` against `before`, partition by partition in disk order: names, sizes, contents,
/// times, the attributes that FAT knows, labels. Times are compared as far as the coarser of both
/// sides can tell. Of a manifest of chosen partitions only those are.
[[nodiscard]] Comparison compare(const Manifest& before, const Manifest& after,
                                 AccessTimes accessed = AccessTimes::compared);

}  // namespace nuvrat

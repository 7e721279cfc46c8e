#pragma once
// A volume opened for reading: what it is, what it holds, which of its sectors are in use.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/finding.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/text.h>
#include <nuvrat/time.h>
#include <nuvrat/volume_kind.h>

namespace NUVRAT_API nuvrat {

/// How to read what a volume does not say about itself.
struct ReadOptions {
  Zone zone;                ///< of FAT's local times: UTC unless told; Zone::machine()
  unsigned codepage = 437;  ///< the OEM code page of FAT's short names
  /// A system whose hibernation file has an unknown form counts as shut down for good.
  bool ignore_unknown_sleep = false;
  bool short_names = true;  ///< keep them in the tree; a manifest, for one, has no use for them
};

struct VolumeInfo {
  VolumeKind kind = VolumeKind::unknown;
  std::string label;   ///< UTF-8; empty when there is none
  std::string serial;  ///< as its users see it; empty when unknown
  std::uint64_t serial_number = 0;
  std::uint64_t sectors = 0;  ///< what the volume says of its own length
  std::uint64_t bytes = 0;    ///< the same in bytes
  std::uint64_t free_bytes = 0;
  std::uint32_t cluster_bytes = 0;
  std::uint64_t first_cluster = 0;   ///< the sector where clusters are counted from
  std::uint64_t hidden_sectors = 0;  ///< where the volume believes that it begins
  bool clean = true;                 ///< it was closed properly, and no error was noted on it
};

/// A place that a reader could not take in: it is not in the tree.
struct LeftOut {
  std::string path;  ///< of a folder of which something is missing, or of a file; "" is the root
  std::optional<std::uint64_t> record{};  ///< an NTFS record, or a FAT folder's entry
  std::string reason{};
  bool operator==(const LeftOut&) const = default;
};

/// Counts that a check made on its way.
struct VolumeTotals {
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;  ///< in their contents, as their sizes say
};

/// Properties of a file or folder besides names, times, contents and attributes; each may be empty.
struct FileExtras {
  Bytes permissions{};  ///< as the format keeps them (NTFS: a self-relative security descriptor)
  /// By what shortcuts find it where it was moved (NTFS: its GUID, and up to three more).
  Bytes object_id{};
};

class VolumeReader {
 public:
  VolumeReader() = default;
  VolumeReader(const VolumeReader&) = delete;
  VolumeReader& operator=(const VolumeReader&) = delete;
  virtual ~VolumeReader() = default;

  [[nodiscard]] virtual const VolumeInfo& info() const = 0;
  /// Reads every directory at the first call. What breaks a rule or can't be read is left out, and
  /// named in left_out().
  [[nodiscard]] virtual const FileTree& tree() = 0;
  /// The same, given away: a large one need not lie in memory twice. The reader's own is empty
  /// then.
  [[nodiscard]] virtual FileTree take_tree() = 0;
  /// All that were seen so far; complete once tree() has been called.
  [[nodiscard]] virtual const Findings& findings() const = 0;
  /// In what way the tree is not whole; complete once tree() has been called. At most
  /// max_left_out of them, the last of which then says that there are more.
  [[nodiscard]] const std::vector<LeftOut>& left_out() const { return left_out_; }
  static constexpr std::size_t max_left_out = 10000;
  /// The sectors that structures and contents own; the rest of the volume is free.
  [[nodiscard]] virtual SectorSet owned() = 0;
  /// Sectors that are marked as bad: not free, and of no file.
  [[nodiscard]] virtual SectorSet bad() const = 0;
  /// Gives the contents of a file that are stored elsewhere than in its extents, in pieces. Throws
  /// Error (damaged, device_read).
  virtual void read_contents(FileTree::Id id, ByteSink sink) = 0;
  [[nodiscard]] virtual const Device& device() const = 0;
  /// Throws Error (damaged, device_read).
  [[nodiscard]] virtual FileExtras extras(FileTree::Id /*id*/) { return {}; }

 protected:
  void leave_out(LeftOut what) {
    if (left_out_.size() < max_left_out) left_out_.push_back(std::move(what));
    if (left_out_.size() == max_left_out)
      left_out_.back() = {"", {}, "there are more such places than are listed"};
  }

 private:
  std::vector<LeftOut> left_out_;
};

/// Gives a file's contents by its path ("TIDES/MAY.CSV"), in order and in pieces. Throws Error:
/// words (no such file), damaged, device_read.
void read_file(VolumeReader& reader, std::string_view path, ByteSink sink);

/// The kind of volume that a device (usually a Window onto a partition) seems to hold, from its
/// first sectors alone.
struct VolumeSignature {
  VolumeKind kind = VolumeKind::unknown;
  std::string description;  ///< for kinds that Nuvrat doesn't read: what it is in words
};
[[nodiscard]] VolumeSignature recognise_volume(const Device& device);

/// Whether the volume keeps every rule of its format; empty for kinds that Nuvrat doesn't know.
/// Reads the volume's structures, not its files. Throws Error (damaged) when it can't be read at
/// all. `totals` may be null.
[[nodiscard]] Findings check_volume(const Device& device, const ReadOptions& options,
                                    VolumeTotals* totals = nullptr);

/// A reader for the volume, or null when its kind is not one that Nuvrat reads. `device` must
/// outlive the reader. Throws Error (damaged) when the volume's first structures make no sense.
[[nodiscard]] std::unique_ptr<VolumeReader> open_volume(const Device& device,
                                                        const ReadOptions& options);

}  // namespace nuvrat

#pragma once
// Files of a volume looked at and copied out, read-only: to see what is there before a rewrite, or
// to save what matters most first.

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/manifest.h>
#include <nuvrat/progress.h>
#include <nuvrat/volume.h>

namespace NUVRAT_API nuvrat {

/// The volume of one partition, opened for reading. The device must outlive it.
class OpenedVolume {
 public:
  /// `number` 0: a volume without a table. Where the first boot sector is lost the second one is
  /// taken. Throws Error: words (no such partition, or none that Nuvrat reads), damaged,
  /// device_read.
  OpenedVolume(const Device& device, unsigned number, const ReadOptions& options);
  [[nodiscard]] VolumeReader& reader() { return *reader_; }
  [[nodiscard]] unsigned number() const { return number_; }
  [[nodiscard]] std::uint64_t start() const { return start_; }  ///< its first sector on the disk
  /// The sector of the disk with the second boot sector, where the volume was opened with that.
  [[nodiscard]] std::optional<std::uint64_t> opened_with() const { return opened_with_; }
  /// Findings of the reader so far, in the disk's sectors: damage, and what was read in its place.
  [[nodiscard]] Findings findings() const;

 private:
  unsigned number_ = 0;
  std::uint64_t start_ = 0;
  std::optional<std::uint64_t> opened_with_;
  std::unique_ptr<Device> window_;
  std::unique_ptr<Device> with_copy_;  // the window, its first sector made good
  std::unique_ptr<VolumeReader> reader_;
};

struct FileEntry {
  std::string path;  ///< from the volume's root, as it is written there: "TIDES/may.csv"
  bool directory = false;
  bool stream = false;      ///< a named stream of the file before its colon
  std::uint64_t bytes = 0;  ///< 0 for a folder
  std::uint32_t attributes = 0;
  Ticks created = 0, modified = 0, accessed = 0;  ///< 0: not recorded
};

/// One file, or what is in a folder, in the order of names. A path's parts are divided by "/" or
/// "\"; letters of ASCII count alike in either case where no name is the same letter for letter; ""
/// is the root. Throws Error: words (no such path), damaged, device_read.
[[nodiscard]] std::vector<FileEntry> list_files(VolumeReader& reader, std::string_view path);

struct FetchOptions {
  bool overwrite = false;                    ///< files that exist in the folder are replaced
  const ManifestVolume* recorded = nullptr;  ///< each file's hash is compared with it
};
struct FetchProblem {
  std::string path;
  std::string text;
  bool exists = false;  ///< not copied: a file of its name is there, which `overwrite` replaces
};
struct FetchResult {
  std::uint64_t files = 0;    ///< copied whole, named streams too
  std::uint64_t partial = 0;  ///< copied but for what of them can't be read
  std::uint64_t folders = 0;  ///< made
  std::uint64_t bytes = 0;
  std::uint64_t checked = 0;           ///< files whose hash is the recorded one
  std::vector<FetchProblem> problems;  ///< what was not copied (whole), or isn't as recorded
};
/// Copies files and folders with all that is in them into `folder`, which is made; each path as its
/// last part ("" : all of the volume). Times of changing and access follow; a named stream becomes
/// a file called "name:stream". Parts of a file that can't be read are zeros in its copy, or
/// missing at its end, and named; such a copy never replaces a file. What can't be read at all, or
/// can't have its name there, is left out and named. A file that isn't as recorded is kept, and
/// named. Throws Error: words (no such path), refused (the folder is not one), cancelled, file (no
/// room).
[[nodiscard]] FetchResult fetch_files(VolumeReader& reader, const std::vector<std::string>& paths,
                                      const std::string& folder, const FetchOptions& options,
                                      Progress& progress);

}  // namespace nuvrat

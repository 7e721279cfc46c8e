#pragma once
// A file that appears whole under its name or not at all, wherever its writer is cut off: written
// aside, synced, renamed, its folder synced. The one way in which Nuvrat makes files that matter.

#include <cstdint>
#include <filesystem>
#include <memory>
#include <ostream>
#include <string_view>

namespace nuvrat::base {

/// Of many files: the caller syncs the file system once all of them are written.
enum class Sync { now, by_caller };

class WholeFile {
 public:
  /// Begins it beside its place, private to its owner unless `mode` says otherwise. A private file
  /// is one of a case: whatever stands at `path` is replaced, a symbolic link isn't followed. Of a
  /// file for others the link's target is replaced, and a pipe or a character device, or standard
  /// output for "-", is written straight. Throws Error (file).
  explicit WholeFile(const std::filesystem::path& path, unsigned mode = 0600,
                     Sync sync = Sync::now);
  ~WholeFile();
  WholeFile(const WholeFile&) = delete;
  WholeFile& operator=(const WholeFile&) = delete;

  [[nodiscard]] std::ostream& out();
  /// As many zero bytes next, which take no room where the file system knows holes.
  void zeros(std::uint64_t count);
  /// On the medium (unless that is the caller's), under its name. Throws Error (file); what stood
  /// there before is still there then.
  void finish();

 private:
  class Buffer;
  class Impl;
  std::unique_ptr<Impl> impl_;
};

/// What others may read, too: pages, manifests outside of a case.
inline constexpr unsigned mode_for_others = 0644;
void write_whole_file(const std::filesystem::path& path, std::string_view contents,
                      unsigned mode = 0600);

/// Makes a new entry of a folder durable. Throws Error (file).
void sync_folder(const std::filesystem::path& folder);

}  // namespace nuvrat::base

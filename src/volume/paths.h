#pragma once
// Files by their paths, without reading every folder where the format allows that. Letters of ASCII
// count alike in either case, as systems see names.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/volume.h>

namespace nuvrat::volume {

struct PathEntry {
  std::string name;  ///< as it is written there
  bool directory = false;
  std::uint64_t bytes = 0;
  Ticks modified = 0;
  bool operator==(const PathEntry&) const = default;
};

/// The child of that name: letter for letter, else with letters of ASCII in either case; none.
[[nodiscard]] FileTree::Id child_alike(const FileTree& tree, FileTree::Id folder,
                                       std::string_view name);

class PathReader {
 public:
  PathReader() = default;
  PathReader(const PathReader&) = delete;
  PathReader& operator=(const PathReader&) = delete;
  virtual ~PathReader() = default;

  /// None where there is no such path. Throws Error (damaged, device_read).
  [[nodiscard]] virtual std::optional<PathEntry> find(std::string_view path) = 0;
  /// What is in a folder; nothing of one that isn't there. In the order of names.
  [[nodiscard]] virtual std::vector<PathEntry> list(std::string_view path) = 0;
  /// A file's contents. Throws Error: damaged, device_read; refused for one that is longer than
  /// `most`, or packed, encrypted or a link; words for none.
  [[nodiscard]] virtual Bytes read(std::string_view path, std::uint64_t most) = 0;
  /// The first `bytes` of a file of any length, zeros after its end. Errors as read.
  [[nodiscard]] virtual Bytes head(std::string_view path, std::size_t bytes) = 0;
};

/// Null for a kind of volume that Nuvrat doesn't read. `device` must outlive it.
[[nodiscard]] std::unique_ptr<PathReader> open_paths(const Device& device,
                                                     const ReadOptions& options);

}  // namespace nuvrat::volume

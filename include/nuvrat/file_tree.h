#pragma once
// The contents of a volume, in no format: directories and files with names, times, attributes and
// the extents of their contents. FAT and NTFS meet here and nowhere else.
//
// Nodes and names lie in a few large arrays, 64 bytes a node and two a character, so that a volume
// of a million files fits into less than two hundred megabytes.

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include <nuvrat/sectors.h>
#include <nuvrat/time.h>

namespace NUVRAT_API nuvrat {

// Attribute bits, as both file systems write them.
inline constexpr std::uint32_t attr_read_only = 0x01;
inline constexpr std::uint32_t attr_hidden = 0x02;
inline constexpr std::uint32_t attr_system = 0x04;
inline constexpr std::uint32_t attr_archive = 0x20;

/// How exact the times of a volume are, in ticks.
struct TimePrecision {
  Ticks created = 1;
  Ticks modified = 1;
  Ticks accessed = 1;
};

/// Where the contents of a file are.
enum class Stored : std::uint8_t {
  extents,    ///< in its extents; a hole among them reads as zeros
  elsewhere,  ///< packed, or inside a record: only the volume's reader can give them
};

class FileTree {
 public:
  using Id = std::uint32_t;
  static constexpr Id root = 0;
  static constexpr Id none = 0xFFFFFFFF;
  /// UTF-16 units of the longest path that any system can name. Readers stop there: folders inside
  /// folders without end would otherwise cost the square of their number.
  static constexpr std::size_t max_path_units = 32767;
  /// The first sector of an extent that isn't there.
  static constexpr std::uint64_t hole = std::uint64_t{1} << 62;

  /// The properties of a new node.
  struct Info {
    bool directory = false;
    std::uint32_t attributes = 0;
    std::uint64_t size = 0;  ///< bytes; 0 for a directory
    Ticks created = 0, modified = 0, accessed = 0;
  };

  FileTree();

  /// Adds a child after the children that `parent` has. `name` has at most 255 UTF-16 units (a
  /// named stream is beside its file as "file:stream": up to 511), `short_name` at most 12 (8.3
  /// with its dot) and may be empty. Throws Error (damaged) when the tree outgrows 32-bit ids.
  Id add(Id parent, std::u16string_view name, std::u16string_view short_name, const Info& info);
  /// Sets the extents of a file. Sectors count from the volume's first one.
  void set_extents(Id id, std::span<const SectorRange> extents);
  /// Takes a list of extents as a whole; nodes are then given parts of it. For a tree without any.
  void adopt_extents(std::vector<SectorRange> extents);
  /// The node has `count` of the adopted extents from the `first` on.
  void set_extents(Id id, std::uint32_t first, std::uint32_t count);
  void set_stored(Id id, Stored stored) { nodes_[id].stored = stored; }
  /// Only the first `bytes` of the file were ever written; the rest reads as zeros.
  void set_valid_bytes(Id id, std::uint64_t bytes) { rare(id).valid = bytes; }
  /// The node is another name of the file that `first` names already.
  void set_link(Id id, Id first) { rare(id).link = first; }
  /// The node is a named stream of the file beside it, its extended attributes, or where its
  /// reparse point leads.
  void set_stream(Id id) { rare(id).stream = true; }
  /// The name is the short one, there is no other: it means what the code page of its reader says.
  void set_short_only(Id id) { nodes_[id].short_only = true; }
  void set_size(Id id, std::uint64_t size);
  /// How exact the times of all nodes are.
  void set_precision(const TimePrecision& precision) { precision_ = precision; }

  [[nodiscard]] std::size_t size() const { return nodes_.size(); }  ///< nodes, the root included
  [[nodiscard]] Info info(Id id) const;
  [[nodiscard]] bool is_directory(Id id) const { return nodes_[id].directory; }
  [[nodiscard]] std::uint64_t bytes(Id id) const { return nodes_[id].size; }
  [[nodiscard]] Id parent(Id id) const { return nodes_[id].parent; }
  [[nodiscard]] Stored stored(Id id) const { return nodes_[id].stored; }
  [[nodiscard]] std::uint64_t valid_bytes(Id id) const;
  /// The first name of the same file, or none.
  [[nodiscard]] Id link(Id id) const;
  [[nodiscard]] bool is_stream(Id id) const;
  [[nodiscard]] std::u16string_view name(Id id) const;
  [[nodiscard]] std::u16string_view short_name(Id id) const;
  [[nodiscard]] bool is_short_only(Id id) const { return nodes_[id].short_only; }
  /// "DATA/2031/may.csv" in UTF-8; "" for the root.
  [[nodiscard]] std::string path(Id id) const;
  [[nodiscard]] std::u16string path16(Id id) const;
  /// The node at a path as path() gives it, letter for letter; `root` for "", none for no such
  /// node.
  [[nodiscard]] Id find(std::string_view path) const;
  [[nodiscard]] const TimePrecision& precision() const { return precision_; }

  /// Extents in order; valid until the tree changes.
  [[nodiscard]] std::span<const SectorRange> extents(Id id) const;
  /// In the order they were added.
  [[nodiscard]] std::vector<Id> children(Id id) const;
  /// Ordered by the UTF-16 units of their names.
  [[nodiscard]] std::vector<Id> sorted_children(Id id) const;
  /// Every node but the root, directories before what they hold, siblings sorted by name.
  template <typename Visit>
  void walk(Visit visit) const;

  [[nodiscard]] std::uint64_t file_count() const { return files_; }
  [[nodiscard]] std::uint64_t directory_count() const { return nodes_.size() - 1 - files_; }
  [[nodiscard]] std::uint64_t total_bytes() const { return total_; }

 private:
  struct Node {
    std::uint64_t size;
    Ticks created, modified, accessed;
    Id parent, next_sibling;
    // A folder's first and last child; where a file's extents begin in extents_, and their number.
    std::uint32_t first, second;
    std::uint32_t name_at, short_at;
    std::uint32_t attributes;
    std::uint16_t name_length;
    std::uint8_t short_length : 5;
    bool short_only : 1;
    Stored stored : 1;
    bool directory : 1;
  };
  static_assert(sizeof(Node) == 64);

  // Both grow by blocks: nothing is copied on the way, and what is freed is whole pages.
  class Nodes {
   public:
    void push_back(const Node& node);
    [[nodiscard]] Node& operator[](std::size_t i) {
      return blocks_[i / block_nodes][i % block_nodes];
    }
    [[nodiscard]] const Node& operator[](std::size_t i) const {
      return blocks_[i / block_nodes][i % block_nodes];
    }
    [[nodiscard]] std::size_t size() const { return size_; }

   private:
    static constexpr std::size_t block_nodes = 4096;
    std::vector<std::vector<Node>> blocks_;
    std::size_t size_ = 0;
  };
  // Names one after the other.
  class NamePool {
   public:
    [[nodiscard]] bool has_room() const { return blocks_.size() < 0xFFFFFFFF / block_units; }
    std::uint32_t add(std::u16string_view text);
    [[nodiscard]] std::u16string_view at(std::uint32_t place, std::size_t length) const;

   private:
    static constexpr std::size_t block_units = 1u << 18;
    std::vector<std::u16string> blocks_;
  };

  struct Rare {
    Id id = none;
    std::uint64_t valid = ~std::uint64_t{0};
    Id link = none;
    bool stream = false;
  };

  // Makes it where there is none.
  [[nodiscard]] Rare& rare(Id id);
  [[nodiscard]] const Rare* find_rare(Id id) const;

  Nodes nodes_;
  NamePool names_, short_names_;
  std::vector<SectorRange> extents_;
  std::vector<Rare> rare_;  // by id; readers add them in that order
  TimePrecision precision_;
  std::uint64_t files_ = 0;
  std::uint64_t total_ = 0;
};

/// Paths of a walk's nodes, in its order: each is made from the one of its folder, not from the
/// root down.
class WalkedPath {
 public:
  explicit WalkedPath(const FileTree& tree) : tree_(tree) {}
  /// Valid until the next call.
  const std::u16string& operator()(FileTree::Id id) {
    const FileTree::Id parent = tree_.parent(id);
    while (!open_.empty() && open_.back().first != parent) open_.pop_back();
    path_.resize(open_.empty() ? 0 : open_.back().second);
    if (!path_.empty()) path_ += u'/';
    path_ += tree_.name(id);
    if (tree_.is_directory(id)) open_.emplace_back(id, path_.size());
    return path_;
  }

 private:
  const FileTree& tree_;
  std::u16string path_;
  std::vector<std::pair<FileTree::Id, std::size_t>> open_;  // folders, and how long their paths are
};

template <typename Visit>
void FileTree::walk(Visit visit) const {
  std::vector<std::vector<Id>> open{sorted_children(root)};
  for (std::vector<std::size_t> at{0}; !open.empty();) {
    if (at.back() == open.back().size()) {
      open.pop_back();
      at.pop_back();
      continue;
    }
    const Id id = open.back()[at.back()++];
    visit(id);
    if (nodes_[id].directory) {
      open.push_back(sorted_children(id));
      at.push_back(0);
    }
  }
}

}  // namespace nuvrat

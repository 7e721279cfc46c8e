#include "volume/paths.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/record.h"
#include "fat/read.h"
#include "ntfs/boot.h"
#include "ntfs/folder_index.h"
#include "ntfs/volume.h"

namespace nuvrat {
using namespace volume;
namespace {

Error no_file(std::string_view path) {
  return {ErrorCode::words, fmt::format("there is no file '{}'", printable(std::string(path)))};
}

void require_length(std::string_view path, std::uint64_t bytes, std::uint64_t most) {
  if (bytes > most)
    throw Error(
        ErrorCode::refused,
        fmt::format("it is {} long, which is more than such a file can have", format_bytes(bytes)),
        {.path = std::string(path)});
}

void sort_by_name(std::vector<PathEntry>& entries) {
  std::sort(entries.begin(), entries.end(), [](const PathEntry& a, const PathEntry& b) {
    return base::ascii_lower(a.name) < base::ascii_lower(b.name);
  });
}

// What `read(sink)` gives first; it is stopped there.
template <typename Read>
Bytes first_of(std::size_t bytes, Read read) {
  struct Enough {};
  Bytes out;
  try {
    read([&](ByteView piece) {
      const std::size_t more = std::min(piece.size(), bytes - out.size());
      out.insert(out.end(), piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(more));
      if (out.size() == bytes) throw Enough();
    });
  } catch (const Enough&) {
  }
  out.resize(bytes);
  return out;
}

class NtfsPaths final : public PathReader {
 public:
  explicit NtfsPaths(const Device& device) : volume_(device) {}

  std::optional<PathEntry> find(std::string_view path) override {
    const auto found = walk(path);
    return found ? std::optional(found->entry) : std::nullopt;
  }

  std::vector<PathEntry> list(std::string_view path) override {
    std::vector<PathEntry> out;
    const auto found = walk(path);
    if (!found || !found->entry.directory) return out;
    for (Item& item : names_in(found->record)) out.push_back(std::move(item.entry));
    sort_by_name(out);
    return out;
  }

  Bytes read(std::string_view path, std::uint64_t most) override {
    const ntfs::AttributeView data = contents_of(path);
    require_length(path, data.bytes(), most);
    Bytes out;
    if (data.resident) return data.value;
    volume_.stream(data,
                   [&out](ByteView piece) { out.insert(out.end(), piece.begin(), piece.end()); });
    return out;
  }

  Bytes head(std::string_view path, std::size_t bytes) override {
    return first_of(bytes, [&](const auto& sink) {
      const ntfs::AttributeView data = contents_of(path);
      if (data.resident) {
        sink(data.value);
      } else {
        volume_.stream(data, sink);
      }
    });
  }

 private:
  ntfs::AttributeView contents_of(std::string_view path) const {
    const auto found = walk(path);
    if (!found || found->entry.directory) throw no_file(path);
    const auto all = volume_.attributes(found->record);
    const ntfs::AttributeView* data = ntfs::find_attribute(all, ntfs::at_data);
    if (data == nullptr) throw no_file(path);
    const bool plain = (data->flags & ntfs::attribute_encrypted) == 0 &&
                       ntfs::find_attribute(all, ntfs::at_reparse_point) == nullptr;
    if (!plain)
      throw Error(ErrorCode::refused, "it is encrypted, packed by the system or a link",
                  {.path = std::string(path)});
    return *data;
  }

  struct Item {
    PathEntry entry;
    std::uint64_t record = 0;
  };

  static Item item_of(std::uint64_t reference, const ntfs::FileNameHead& head,
                      const std::u16string& name) {
    return {{to_utf8(name), (head.attributes.value() & ntfs::file_name_directory) != 0,
             head.data_size.value(), head.modified.value()},
            ntfs::record_of(reference)};
  }

  std::vector<Item> names_in(std::uint64_t folder) const {
    std::vector<Item> out;
    const auto faults = ntfs::each_indexed_name(
        volume_, folder, volume_.attributes(folder), [&](std::uint64_t reference, ByteView key) {
          const auto head = base::load<ntfs::FileNameHead>(key);
          if (head.name_space != ntfs::name_dos)
            out.push_back(item_of(reference, head, ntfs::utf16_from(key.subspan(sizeof head))));
        });
    if (!faults.empty()) throw Error(ErrorCode::damaged, faults.front(), {.record = folder});
    return out;
  }

  // At most as many steps as the path has parts; no folder is kept in memory.
  std::optional<Item> walk(std::string_view path) const {
    Item at{{"", true, 0, 0}, ntfs::record_root};
    for (const std::string& part : base::path_parts(path)) {
      if (!at.entry.directory) return std::nullopt;
      const std::u16string wanted = base::ascii_lower(to_utf16(part));
      std::optional<Item> found;
      const auto faults = ntfs::each_indexed_name(
          volume_, at.record, volume_.attributes(at.record),
          [&](std::uint64_t reference, ByteView key) {
            const auto head = base::load<ntfs::FileNameHead>(key);
            if (found || head.name_space == ntfs::name_dos || head.name_length != wanted.size())
              return;
            const std::u16string name = ntfs::utf16_from(key.subspan(sizeof head));
            if (base::ascii_lower(name) == wanted) found = item_of(reference, head, name);
          });
      if (!found && !faults.empty())
        throw Error(ErrorCode::damaged, faults.front(), {.record = at.record});
      if (!found) return std::nullopt;
      at = std::move(*found);
    }
    return at;
  }

  ntfs::Volume volume_;
};

// Any kind that is read as a tree.
class TreePaths final : public PathReader {
 public:
  explicit TreePaths(std::unique_ptr<VolumeReader> reader) : reader_(std::move(reader)) {}

  std::optional<PathEntry> find(std::string_view path) override {
    const FileTree::Id id = walk(path);
    return id == FileTree::none ? std::nullopt : std::optional(entry(id));
  }
  std::vector<PathEntry> list(std::string_view path) override {
    std::vector<PathEntry> out;
    const FileTree::Id id = walk(path);
    if (id == FileTree::none || !tree().is_directory(id)) return out;
    for (const FileTree::Id child : tree().children(id)) out.push_back(entry(child));
    sort_by_name(out);
    return out;
  }
  Bytes read(std::string_view path, std::uint64_t most) override {
    const FileTree::Id id = walk(path);
    if (id == FileTree::none || tree().is_directory(id)) throw no_file(path);
    require_length(path, tree().bytes(id), most);
    Bytes out;
    read_file(*reader_, tree().path(id),
              [&out](ByteView piece) { out.insert(out.end(), piece.begin(), piece.end()); });
    return out;
  }
  Bytes head(std::string_view path, std::size_t bytes) override {
    const FileTree::Id id = walk(path);
    if (id == FileTree::none || tree().is_directory(id)) throw no_file(path);
    return first_of(bytes, [&](const auto& sink) { read_file(*reader_, tree().path(id), sink); });
  }

 private:
  const FileTree& tree() { return reader_->tree(); }
  PathEntry entry(FileTree::Id id) {
    return {to_utf8(std::u16string(tree().name(id))), tree().is_directory(id), tree().bytes(id),
            tree().info(id).modified};
  }
  FileTree::Id walk(std::string_view path) {
    FileTree::Id at = FileTree::root;
    for (const std::string& part : base::path_parts(path)) {
      if (!tree().is_directory(at)) return FileTree::none;
      at = child_alike(tree(), at, part);
      if (at == FileTree::none) return at;
    }
    return at;
  }

  std::unique_ptr<VolumeReader> reader_;
};

}  // namespace

FileTree::Id volume::child_alike(const FileTree& tree, FileTree::Id folder, std::string_view name) {
  FileTree::Id alike = FileTree::none;
  const std::string folded = base::ascii_lower(std::string(name));
  for (const FileTree::Id id : tree.children(folder)) {
    const std::string has = to_utf8(tree.name(id));
    if (has == name) return id;
    if (alike == FileTree::none && base::ascii_lower(has) == folded) alike = id;
  }
  return alike;
}

std::unique_ptr<PathReader> volume::open_paths(const Device& device, const ReadOptions& options) {
  const auto format = format_of(recognise_volume(device).kind);
  if (!format) return nullptr;
  switch (*format) {
    case VolumeFormat::fat:
      return std::make_unique<TreePaths>(fat::open_reader(device, options));
    case VolumeFormat::ntfs:
      return std::make_unique<NtfsPaths>(device);
  }
  return nullptr;
}

}  // namespace nuvrat

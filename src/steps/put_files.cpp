#include "steps/put_files.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"

namespace nuvrat::steps {
namespace {

FileTree::Id child_named(const FileTree& tree, FileTree::Id folder, const std::u16string& name) {
  for (const FileTree::Id id : tree.children(folder)) {
    if (base::ascii_lower(std::u16string(tree.name(id))) == base::ascii_lower(name)) return id;
  }
  return FileTree::none;
}

}  // namespace

PlacedFiles put_files(const std::vector<tree::PutFile>& files, Ticks made, FileTree& tree) {
  PlacedFiles out;
  for (std::size_t i = 0; i < files.size(); ++i) {
    const tree::PutFile& file = files[i];
    const Ticks time = file.modified == 0 ? made : file.modified;
    FileTree::Id at = FileTree::root;
    const std::vector<std::string> parts = base::path_parts(file.path);
    for (std::size_t n = 0; n < parts.size(); ++n) {
      const std::u16string name = to_utf16(parts[n]);
      const bool last = n + 1 == parts.size();
      FileTree::Id next = child_named(tree, at, name);
      if (next == FileTree::none) {
        FileTree::Info info;
        info.directory = !last;
        info.attributes = last ? file.attributes : 0;
        info.created = info.modified = info.accessed = time;
        next = tree.add(at, name, {}, info);
      } else if (tree.is_directory(next) == last) {
        throw Error(ErrorCode::refused,
                    fmt::format("'{}' can't be put there: {}", printable(file.path),
                                last ? "a folder has its name" : "a file is in its path"));
      }
      at = next;
    }
    tree.set_extents(at, std::vector<SectorRange>());
    tree.set_size(at, file.contents.size());
    tree.set_stored(at, Stored::elsewhere);
    out[at] = i;
  }
  return out;
}

}  // namespace nuvrat::steps

#include "steps/put_files.h"

#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

namespace nuvrat::steps {
namespace {

std::u16string folded(std::u16string_view name) {
  std::u16string out(name);
  for (char16_t& c : out) c = c >= u'A' && c <= u'Z' ? static_cast<char16_t>(c + 32) : c;
  return out;
}

FileTree::Id child_named(const FileTree& tree, FileTree::Id folder, const std::u16string& name) {
  for (const FileTree::Id id : tree.children(folder)) {
    if (folded(tree.name(id)) == folded(name)) return id;
  }
  return FileTree::none;
}

}  // namespace

PlacedFiles put_files(const std::vector<PutFile>& files, Ticks made, FileTree& tree) {
  PlacedFiles out;
  for (std::size_t i = 0; i < files.size(); ++i) {
    const PutFile& file = files[i];
    const Ticks time = file.modified == 0 ? made : file.modified;
    FileTree::Id at = FileTree::root;
    for (std::size_t begin = 0; begin <= file.path.size();) {
      const std::size_t end = std::min(file.path.find('/', begin), file.path.size());
      const std::u16string name = to_utf16(file.path.substr(begin, end - begin));
      const bool last = end == file.path.size();
      begin = end + 1;
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

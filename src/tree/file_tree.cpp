#include <algorithm>

#include <nuvrat/error.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/text.h>

namespace nuvrat {

FileTree::FileTree() {
  Node node{};
  node.parent = node.first_child = node.last_child = node.next_sibling = none;
  node.directory = true;
  nodes_.push_back(node);
}

FileTree::Id FileTree::add(Id parent, std::u16string_view name, std::u16string_view short_name,
                           const Info& info) {
  if (nodes_.size() >= none || names_.size() + 1024 > 0xFFFFFFFF || name.size() > 511 ||
      short_name.size() > 12) {
    throw Error(ErrorCode::damaged, "the volume names more files than a volume can hold");
  }
  Node node{};
  node.size = info.size;
  node.created = info.created;
  node.modified = info.modified;
  node.accessed = info.accessed;
  node.parent = parent;
  node.first_child = node.last_child = node.next_sibling = none;
  node.name_at = static_cast<std::uint32_t>(names_.size());
  node.attributes = info.attributes;
  node.name_length = static_cast<std::uint16_t>(name.size());
  node.short_length = static_cast<std::uint8_t>(short_name.size());
  node.directory = info.directory;
  names_.insert(names_.end(), name.begin(), name.end());
  names_.insert(names_.end(), short_name.begin(), short_name.end());
  const Id id = static_cast<Id>(nodes_.size());
  nodes_.push_back(node);
  Node& above = nodes_[parent];
  if (above.first_child == none) {
    above.first_child = id;
  } else {
    nodes_[above.last_child].next_sibling = id;
  }
  above.last_child = id;
  if (!info.directory) {
    ++files_;
    total_ += info.size;
  }
  return id;
}

void FileTree::set_extents(Id id, const std::vector<SectorRange>& extents) {
  nodes_[id].extents_at = static_cast<std::uint32_t>(extents_.size());
  nodes_[id].extents_count = static_cast<std::uint32_t>(extents.size());
  extents_.insert(extents_.end(), extents.begin(), extents.end());
}

void FileTree::share_extents(Id id, Id other) {
  nodes_[id].extents_at = nodes_[other].extents_at;
  nodes_[id].extents_count = nodes_[other].extents_count;
}

void FileTree::set_size(Id id, std::uint64_t size) {
  total_ = total_ - nodes_[id].size + size;
  nodes_[id].size = size;
}

std::uint64_t FileTree::valid_bytes(Id id) const {
  const auto it = rare_.find(id);
  return it == rare_.end() ? nodes_[id].size : std::min(it->second.valid, nodes_[id].size);
}

FileTree::Id FileTree::link(Id id) const {
  const auto it = rare_.find(id);
  return it == rare_.end() ? none : it->second.link;
}

FileTree::Info FileTree::info(Id id) const {
  const Node& n = nodes_[id];
  return {n.directory, n.attributes, n.size, n.created, n.modified, n.accessed};
}

std::u16string_view FileTree::name(Id id) const {
  return {names_.data() + nodes_[id].name_at, nodes_[id].name_length};
}

std::u16string_view FileTree::short_name(Id id) const {
  return {names_.data() + nodes_[id].name_at + nodes_[id].name_length, nodes_[id].short_length};
}

std::u16string FileTree::path16(Id id) const {
  std::vector<Id> up;
  for (; id != root; id = nodes_[id].parent) up.push_back(id);
  std::u16string out;
  for (auto it = up.rbegin(); it != up.rend(); ++it) {
    if (!out.empty()) out += u'/';
    out += name(*it);
  }
  return out;
}

std::string FileTree::path(Id id) const {
  return to_utf8(path16(id));
}

std::span<const SectorRange> FileTree::extents(Id id) const {
  return std::span(extents_).subspan(nodes_[id].extents_at, nodes_[id].extents_count);
}

std::vector<FileTree::Id> FileTree::children(Id id) const {
  std::vector<Id> out;
  for (Id c = nodes_[id].first_child; c != none; c = nodes_[c].next_sibling) out.push_back(c);
  return out;
}

std::vector<FileTree::Id> FileTree::sorted_children(Id id) const {
  std::vector<Id> out = children(id);
  std::stable_sort(out.begin(), out.end(), [this](Id a, Id b) { return name(a) < name(b); });
  return out;
}

}  // namespace nuvrat

#include <algorithm>

#include <nuvrat/error.h>
#include <nuvrat/file_tree.h>
#include <nuvrat/text.h>

namespace nuvrat {

FileTree::FileTree() {
  Node node{};
  node.parent = node.first = node.second = node.next_sibling = none;
  node.directory = true;
  nodes_.push_back(node);
}

FileTree::Id FileTree::add(Id parent, std::u16string_view name, std::u16string_view short_name,
                           const Info& info) {
  if (nodes_.size() >= none || !names_.has_room() || !short_names_.has_room() ||
      name.size() > 511 || short_name.size() > 12) {
    throw Error(ErrorCode::damaged, "the volume names more files than a volume can hold");
  }
  Node node{};
  node.size = info.size;
  node.created = info.created;
  node.modified = info.modified;
  node.accessed = info.accessed;
  node.parent = parent;
  node.next_sibling = none;
  if (info.directory) node.first = node.second = none;
  node.name_at = names_.add(name);
  node.short_at = short_names_.add(short_name);
  node.attributes = info.attributes;
  node.name_length = static_cast<std::uint16_t>(name.size());
  node.short_length = static_cast<std::uint8_t>(short_name.size() & 0x1F);
  node.directory = info.directory;
  const Id id = static_cast<Id>(nodes_.size());
  nodes_.push_back(node);
  Node& above = nodes_[parent];
  if (above.first == none) {
    above.first = id;
  } else {
    nodes_[above.second].next_sibling = id;
  }
  above.second = id;
  if (!info.directory) {
    ++files_;
    // What is claimed may exceed every number.
    if (__builtin_add_overflow(total_, info.size, &total_)) total_ = ~std::uint64_t{0};
  }
  return id;
}

void FileTree::Nodes::push_back(const Node& node) {
  if (size_ % block_nodes == 0) {
    blocks_.emplace_back();
    if (blocks_.size() > 1) blocks_.back().reserve(block_nodes);  // a small tree stays small
  }
  blocks_.back().push_back(node);
  ++size_;
}

std::uint32_t FileTree::NamePool::add(std::u16string_view text) {
  if (blocks_.empty() || blocks_.back().size() + text.size() > block_units) {
    blocks_.emplace_back();
    if (blocks_.size() > 1) blocks_.back().reserve(block_units);
  }
  const std::size_t at = (blocks_.size() - 1) * block_units + blocks_.back().size();
  blocks_.back() += text;
  return static_cast<std::uint32_t>(at);
}

std::u16string_view FileTree::NamePool::at(std::uint32_t place, std::size_t length) const {
  if (length == 0) return {};
  return std::u16string_view(blocks_[place / block_units]).substr(place % block_units, length);
}

void FileTree::set_extents(Id id, std::span<const SectorRange> extents) {
  if (extents.size() >= none - extents_.size())
    throw Error(ErrorCode::damaged, "the files are in more pieces than can be held");
  nodes_[id].first = static_cast<std::uint32_t>(extents_.size());
  nodes_[id].second = static_cast<std::uint32_t>(extents.size());
  // By a quarter: of the half that doubling leaves unused, a million files have 16 MB.
  if (extents_.capacity() - extents_.size() < extents.size())
    extents_.reserve(extents_.size() + std::max(extents.size(), extents_.size() / 4));
  extents_.insert(extents_.end(), extents.begin(), extents.end());
}

void FileTree::adopt_extents(std::vector<SectorRange> extents) {
  if (extents.size() >= none)
    throw Error(ErrorCode::damaged, "the files are in more pieces than can be held");
  extents_ = std::move(extents);
  extents_.shrink_to_fit();
}

void FileTree::set_extents(Id id, std::uint32_t first, std::uint32_t count) {
  nodes_[id].first = first;
  nodes_[id].second = count;
}

void FileTree::set_size(Id id, std::uint64_t size) {
  total_ = total_ - nodes_[id].size + size;
  nodes_[id].size = size;
}

FileTree::Rare& FileTree::rare(Id id) {
  const auto at = rare_.empty() || rare_.back().id < id
                      ? rare_.end()
                      : std::lower_bound(rare_.begin(), rare_.end(), id,
                                         [](const Rare& r, Id wanted) { return r.id < wanted; });
  if (at != rare_.end() && at->id == id) return *at;
  return *rare_.insert(at, {.id = id});
}

const FileTree::Rare* FileTree::find_rare(Id id) const {
  const auto at = std::lower_bound(rare_.begin(), rare_.end(), id,
                                   [](const Rare& r, Id wanted) { return r.id < wanted; });
  return at == rare_.end() || at->id != id ? nullptr : &*at;
}

std::uint64_t FileTree::valid_bytes(Id id) const {
  const Rare* r = find_rare(id);
  return r == nullptr ? nodes_[id].size : std::min(r->valid, nodes_[id].size);
}

FileTree::Id FileTree::link(Id id) const {
  const Rare* r = find_rare(id);
  return r == nullptr ? none : r->link;
}

bool FileTree::is_stream(Id id) const {
  const Rare* r = find_rare(id);
  return r != nullptr && r->stream;
}

FileTree::Info FileTree::info(Id id) const {
  const Node& n = nodes_[id];
  return {n.directory, n.attributes, n.size, n.created, n.modified, n.accessed};
}

std::u16string_view FileTree::name(Id id) const {
  return names_.at(nodes_[id].name_at, nodes_[id].name_length);
}

std::u16string_view FileTree::short_name(Id id) const {
  return short_names_.at(nodes_[id].short_at, nodes_[id].short_length);
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

FileTree::Id FileTree::find(std::string_view path) const {
  const std::u16string wanted = to_utf16(path);
  Id here = root;
  for (std::size_t at = 0; at < wanted.size() && here != none;) {
    const std::size_t end = std::min(wanted.find(u'/', at), wanted.size());
    const std::u16string_view step = std::u16string_view(wanted).substr(at, end - at);
    Id next = nodes_[here].directory ? nodes_[here].first : none;
    while (next != none && name(next) != step) next = nodes_[next].next_sibling;
    here = next;
    at = end + 1;
  }
  return here;
}

std::span<const SectorRange> FileTree::extents(Id id) const {
  if (nodes_[id].directory) return {};
  return std::span(extents_).subspan(nodes_[id].first, nodes_[id].second);
}

std::vector<FileTree::Id> FileTree::children(Id id) const {
  std::vector<Id> out;
  if (!nodes_[id].directory) return out;
  for (Id c = nodes_[id].first; c != none; c = nodes_[c].next_sibling) out.push_back(c);
  return out;
}

std::vector<FileTree::Id> FileTree::sorted_children(Id id) const {
  std::vector<Id> out = children(id);
  std::stable_sort(out.begin(), out.end(), [this](Id a, Id b) { return name(a) < name(b); });
  return out;
}

}  // namespace nuvrat

#include "ntfs/index.h"

#include <algorithm>

#include "base/record.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::size_t child_bytes = 8;

// Behind the header and a sequence number for each stride, and one.
std::size_t entries_at(std::uint64_t block_bytes) {
  return align8(sizeof(IndexBlock) + 2 * (block_bytes / stride + 1));
}

void put_entry(const IndexItem* item, bool has_child, std::uint64_t child_vcn, Bytes& out) {
  const std::size_t at = out.size();
  const std::size_t body = item == nullptr ? 0 : item->body.size();
  out.resize(at + entry_bytes(body) + (has_child ? child_bytes : 0));
  IndexEntry entry{};
  if (item != nullptr) {
    entry.reference = item->head;
    entry.key_length = item->key_length;
    std::copy(item->body.begin(), item->body.end(),
              out.begin() + static_cast<std::ptrdiff_t>(at + sizeof entry));
  }
  entry.length = static_cast<std::uint16_t>(out.size() - at);
  entry.flags = static_cast<std::uint16_t>((has_child ? entry_has_child : 0) |
                                           (item == nullptr ? entry_last : 0));
  store(entry, out, at);
  if (has_child) {
    be::little_uint64_buf_t vcn;
    vcn = child_vcn;
    store(vcn, out, out.size() - child_bytes);
  }
}

Bytes index_root(const IndexKind& kind, const Bytes& entries, bool has_children) {
  IndexRoot root{};
  root.type = kind.type;
  root.collation = kind.collation;
  root.block_size = static_cast<std::uint32_t>(kind.block_bytes);
  root.clusters_per_block = static_cast<std::uint8_t>(kind.block_bytes / kind.unit);
  IndexHeader header{};
  header.first_entry = static_cast<std::uint32_t>(sizeof header);
  header.used = static_cast<std::uint32_t>(sizeof header + entries.size());
  header.allocated = header.used.value();
  header.flags = has_children ? 1u : 0u;
  Bytes out(sizeof root + sizeof header);
  store(root, out);
  store(header, out, sizeof root);
  out.insert(out.end(), entries.begin(), entries.end());
  return out;
}

}  // namespace

std::size_t entry_bytes(std::size_t body) {
  return align8(sizeof(IndexEntry) + body);
}

IndexShape::IndexShape(const std::vector<std::uint32_t>& sizes, std::uint64_t block_bytes)
    : block_bytes_(block_bytes) {
  std::vector<std::uint32_t> items(sizes.size());
  for (std::uint32_t i = 0; i < items.size(); ++i) items[i] = i;
  std::vector<std::uint32_t> children;  // of this level: one more than items, or none at the leaves
  while (true) {
    const std::size_t extra = children.empty() ? 0 : child_bytes;
    const std::size_t room =
        block_bytes - entries_at(block_bytes) - sizeof(IndexEntry) - extra;  // the end entry
    std::vector<std::size_t> separators;  // items that go up, by position in this level
    std::size_t used = 0;
    for (std::size_t i = 0; i < items.size(); ++i) {
      const std::size_t size = sizes[items[i]] + extra;
      if (used + size <= room) {
        used += size;
      } else {
        separators.push_back(i);
        used = 0;
      }
    }
    // Never an empty block at the end: the one before gives its last entry up.
    if (!separators.empty() && separators.back() + 1 == items.size()) --separators.back();

    const auto child = [&children](std::size_t i) {
      return children.empty() ? no_child : children[i];
    };
    std::vector<std::uint32_t> next_items;
    std::vector<std::uint32_t> next_children;
    std::size_t at = 0;
    for (std::size_t s = 0; s <= separators.size(); ++s) {
      const std::size_t end = s < separators.size() ? separators[s] : items.size();
      std::vector<Place> block;
      for (; at < end; ++at) block.push_back({items[at], child(at)});
      block.push_back({no_child, child(end)});
      next_children.push_back(static_cast<std::uint32_t>(blocks_.size()));
      blocks_.push_back(std::move(block));
      if (s < separators.size()) next_items.push_back(items[end]);
      ++at;
    }
    if (separators.empty()) return;
    items = std::move(next_items);
    children = std::move(next_children);
  }
}

Bytes index_block(const IndexShape& shape, std::size_t number, const std::vector<IndexItem>& items,
                  std::uint64_t unit) {
  const std::uint64_t block_bytes = shape.block_bytes();
  const std::size_t begin = entries_at(block_bytes);
  Bytes entries;
  bool has_children = false;
  for (const IndexShape::Place& p : shape.block(number)) {
    const bool child = p.child != IndexShape::no_child;
    has_children |= child;
    put_entry(p.item == IndexShape::no_child ? nullptr : &items[p.item], child,
              child ? p.child * (block_bytes / unit) : 0, entries);
  }
  IndexBlock block{};
  block.multi.signature = {'I', 'N', 'D', 'X'};
  block.multi.usa_offset = static_cast<std::uint16_t>(sizeof block);
  block.multi.usa_count = static_cast<std::uint16_t>(block_bytes / stride + 1);
  block.vcn = number * (block_bytes / unit);
  const std::size_t header_at = offsetof(IndexBlock, header);
  block.header.first_entry = static_cast<std::uint32_t>(begin - header_at);
  block.header.used = static_cast<std::uint32_t>(begin - header_at + entries.size());
  block.header.allocated = static_cast<std::uint32_t>(block_bytes - header_at);
  block.header.flags = has_children ? 1u : 0u;
  Bytes out(block_bytes);
  store(block, out);
  std::copy(entries.begin(), entries.end(), out.begin() + static_cast<std::ptrdiff_t>(begin));
  protect(out, 1);
  return out;
}

Bytes small_index_root(const IndexKind& kind, const std::vector<IndexItem>& items) {
  Bytes entries;
  for (const IndexItem& item : items) put_entry(&item, false, 0, entries);
  put_entry(nullptr, false, 0, entries);
  return index_root(kind, entries, false);
}

Bytes large_index_root(const IndexKind& kind, std::size_t blocks) {
  Bytes entries;
  put_entry(nullptr, true, (blocks - 1) * (kind.block_bytes / kind.unit), entries);
  return index_root(kind, entries, true);
}

}  // namespace nuvrat::ntfs

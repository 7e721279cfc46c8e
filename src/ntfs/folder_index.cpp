#include "ntfs/folder_index.h"

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t max_index_root = 65536;
constexpr std::size_t max_faults = 1000;  // of one folder

struct Block {
  std::uint64_t vcn;
  std::size_t depth;
};

struct Reading {
  std::uint64_t folder;
  const VisitName& visit;
  std::vector<Block>& children;
};

// `depth`: of the block, from 0 in the root.
void read_entries(const Reading& reading, ByteView bytes, std::size_t header_at,
                  std::size_t depth) {
  const auto header = load<IndexHeader>(bytes, header_at);
  const std::uint64_t end = header_at + std::uint64_t{header.used.value()};
  std::uint64_t at = header_at + std::uint64_t{header.first_entry.value()};
  if (end > bytes.size()) throw Error(ErrorCode::damaged, "an index says more than it holds");
  while (true) {
    if (at > end || sizeof(IndexEntry) > end - at)
      throw Error(ErrorCode::damaged, "an index has no last entry");
    const auto entry = load<IndexEntry>(bytes, at);
    const std::uint64_t length = entry.length.value();
    if (length < sizeof(IndexEntry) || length % 8 != 0 || length > end - at)
      throw Error(ErrorCode::damaged, fmt::format("an index entry has {} bytes", length));
    const bool child = (entry.flags.value() & entry_has_child) != 0;
    if (child) {
      if (length < sizeof(IndexEntry) + 8)
        throw Error(ErrorCode::damaged, "an index entry has no room for its child");
      reading.children.push_back(
          {load<be::little_uint64_buf_t>(bytes, at + length - 8).value(), depth + 1});
    }
    if ((entry.flags.value() & entry_last) != 0) return;
    const ByteView key = bytes.subspan(at + sizeof(IndexEntry), length - sizeof(IndexEntry));
    const auto name = load<FileNameHead>(key);
    const std::size_t units = name.name_length;
    if (sizeof(FileNameHead) + 2 * units > key.size())
      throw Error(ErrorCode::damaged, "a name leaves its index entry");
    if (record_of(name.parent.value()) != reading.folder)
      throw Error(ErrorCode::damaged, fmt::format("the index holds a name that is in folder {}",
                                                  record_of(name.parent.value())));
    reading.visit(entry.reference.value(), key.first(sizeof(FileNameHead) + 2 * units));
    at += length;
  }
}

}  // namespace

std::vector<std::string> each_indexed_name(const Volume& volume, std::uint64_t number,
                                           const std::vector<AttributeView>& folder,
                                           const VisitName& visit) {
  const AttributeView* root = find_attribute(folder, at_index_root, u"$I30");
  if (root == nullptr || !root->resident || root->value.size() > max_index_root)
    throw Error(ErrorCode::damaged, "the folder has no index");
  const AttributeView* blocks = find_attribute(folder, at_index_allocation, u"$I30");
  const RunMap map(blocks == nullptr ? Runs{} : blocks->runs);
  const std::uint64_t unit = volume.geometry().index_unit();
  const std::uint64_t size = volume.geometry().index_bytes;
  const std::uint64_t end =
      blocks == nullptr
          ? 0
          : std::min(blocks->size, map.clusters() * volume.geometry().cluster_bytes());
  std::vector<std::string> faults;
  std::vector<Block> open;
  std::set<std::uint64_t> seen;
  Bytes block(size);
  // Of a damaged block the names before the damage are taken.
  const auto tried = [&faults](const auto& read) {
    try {
      read();
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
      faults.push_back(e.message());
    }
  };
  const Reading reading{number, visit, open};
  tried([&] { read_entries(reading, root->value, sizeof(IndexRoot), 0); });
  while (!open.empty() && faults.size() < max_faults) {
    const auto [vcn, depth] = open.back();
    open.pop_back();
    tried([&, vcn = vcn, depth = depth] {
      if (depth > max_index_depth)
        throw Error(ErrorCode::damaged, fmt::format("the index is {} blocks deep", depth));
      if (vcn > end / unit || vcn * unit + size > end)
        throw Error(ErrorCode::damaged, fmt::format("the index leads to block {}", vcn));
      if (!seen.insert(vcn).second)
        throw Error(ErrorCode::damaged, fmt::format("the index leads to block {} twice", vcn));
      volume.read(map, vcn * unit, block);
      const auto head = load<IndexBlock>(block);
      if (std::string_view(head.multi.signature.data(), 4) != "INDX" || !unprotect(block) ||
          head.vcn.value() != vcn)
        throw Error(ErrorCode::damaged, fmt::format("block {} of the index is damaged", vcn));
      read_entries(reading, block, offsetof(IndexBlock, header), depth);
    });
  }
  return faults;
}

FolderNames read_folder_index(const Volume& volume, std::uint64_t number,
                              const std::vector<AttributeView>& folder) {
  FolderNames out;
  out.faults =
      each_indexed_name(volume, number, folder, [&out](std::uint64_t reference, ByteView key) {
        out.names.push_back({reference, utf16_from(key.subspan(sizeof(FileNameHead))),
                             load<FileNameHead>(key).name_space});
      });
  return out;
}

}  // namespace nuvrat::ntfs

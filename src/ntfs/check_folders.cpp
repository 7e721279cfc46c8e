// The rules of folders: blocks, order, every name once, every entry a copy of its file's name.

#include <algorithm>
#include <unordered_set>

#include <fmt/format.h>

#include "base/record.h"
#include "ntfs/check_state.h"
#include "ntfs/fixup.h"

namespace nuvrat {
namespace {

class FolderCheck {
 public:
  FolderCheck(CheckState& state, std::uint64_t number) : state_(state), number_(number) {}

  void run() {
    const auto all = state_.system_file(number_);
    const AttributeView* root = find_attribute(all, at_index_root, u"$I30");
    if (root == nullptr) return;  // said where the record was looked at
    if (root->value.size() < sizeof(IndexRoot) + sizeof(IndexHeader)) {
      error("ntfs.index-root", "the index's root is cut off");
      return;
    }
    const auto head = load<IndexRoot>(root->value);
    const NtfsGeometry& g = state_.volume.geometry();
    unit_ = g.index_unit();
    block_bytes_ = head.block_size.value();
    if (head.type.value() != at_file_name || head.collation.value() != collate_file_name ||
        block_bytes_ != g.index_bytes || head.clusters_per_block != g.index_bytes / unit_) {
      error("ntfs.index-root",
            fmt::format("the index is of type {:X}, order {}, blocks of {} bytes in {} units",
                        head.type.value(), head.collation.value(), block_bytes_,
                        head.clusters_per_block));
      return;
    }
    if (const AttributeView* a = find_attribute(all, at_index_allocation, u"$I30")) {
      map_ = RunMap(a->runs);
      end_ = std::min(a->size, map_.clusters() * g.cluster_bytes());
    }
    walk(root->value);
    check_bitmap(find_attribute(all, at_bitmap, u"$I30"));
  }

 private:
  void error(const char* code, std::string text) { state_.error(code, number_, std::move(text)); }

  // A node being walked: its bytes and where its next entry begins.
  struct Node {
    Bytes bytes;
    std::size_t at;
    std::size_t end;
    bool has_children;
    bool descended = false;
  };

  // In the order of the index: each entry behind everything below it on its left.
  void walk(const Bytes& root) {
    std::vector<Node> open;
    if (!push(root, sizeof(IndexRoot), open)) return;
    while (!open.empty()) {
      Node& node = open.back();
      if (sizeof(IndexEntry) > node.end - std::min(node.at, node.end)) {
        error("ntfs.index-entry", "a node of the index has no last entry");
        return;
      }
      const auto entry = load<IndexEntry>(node.bytes, node.at);
      const std::size_t length = entry.length.value();
      if (length < sizeof entry || length % 8 != 0 || length > node.end - node.at) {
        error("ntfs.index-entry", fmt::format("an entry says that it has {} bytes", length));
        return;
      }
      const bool child = (entry.flags.value() & entry_has_child) != 0;
      if (child != node.has_children) {
        error("ntfs.index-entry", "an entry has a child where its node says none, or none");
        return;
      }
      if (child && !node.descended) {
        node.descended = true;
        if (length < sizeof entry + 8 || !open_block(node, length, open)) return;
        continue;
      }
      node.descended = false;
      if ((entry.flags.value() & entry_last) != 0) {
        if (node.at + length != node.end)
          error("ntfs.index-entry", "bytes in use stand behind a node's last entry");
        open.pop_back();
        continue;
      }
      const ByteView key =
          ByteView(node.bytes)
              .subspan(node.at + sizeof entry, length - sizeof entry - (child ? 8 : 0));
      take_entry(entry, key);
      node.at += length;
    }
  }

  bool push(Bytes bytes, std::size_t header_at, std::vector<Node>& open) {
    const auto header = load<IndexHeader>(bytes, header_at);
    const std::uint64_t end = header_at + std::uint64_t{header.used.value()};
    const std::uint64_t first = header_at + std::uint64_t{header.first_entry.value()};
    if (end > bytes.size() || first > end || header.allocated.value() < header.used.value() ||
        header_at + std::uint64_t{header.allocated.value()} > bytes.size()) {
      error("ntfs.index-header", fmt::format("a node says that it uses {} of {} bytes",
                                             header.used.value(), header.allocated.value()));
      return false;
    }
    open.push_back({std::move(bytes), first, end, (header.flags.value() & 1) != 0});
    return true;
  }

  bool open_block(const Node& node, std::size_t length, std::vector<Node>& open) {
    const std::uint64_t vcn =
        load<be::little_uint64_buf_t>(node.bytes, node.at + length - 8).value();
    if (vcn > end_ / unit_ || vcn * unit_ + block_bytes_ > end_) {
      error("ntfs.index-block", fmt::format("the index leads to block {}, outside of it", vcn));
      return false;
    }
    if (!seen_.insert(vcn * unit_ / block_bytes_).second || open.size() > 64) {
      error("ntfs.index-block", fmt::format("the index leads to block {} twice", vcn));
      return false;
    }
    Bytes block(block_bytes_);
    state_.volume.read(map_, vcn * unit_, block);
    const auto head = load<IndexBlock>(block);
    if (std::string_view(head.multi.signature.data(), 4) != "INDX" || !unprotect(block)) {
      error("ntfs.index-torn", fmt::format("block {} of the index was not written whole", vcn));
      return false;
    }
    if (head.vcn.value() != vcn)
      error("ntfs.index-block",
            fmt::format("block {} says that it is block {}", vcn, head.vcn.value()));
    const std::size_t header_at = offsetof(IndexBlock, header);
    return push(std::move(block), header_at, open);
  }

  void take_entry(const IndexEntry& entry, ByteView key) {
    const std::size_t size = entry.key_length.value();
    if (size > key.size() || size < sizeof(FileNameHead) ||
        size < sizeof(FileNameHead) + 2u * load<FileNameHead>(key).name_length) {
      error("ntfs.index-entry", "a name leaves its entry");
      return;
    }
    const ByteView value = key.first(size);
    const auto head = load<FileNameHead>(value);
    std::u16string name = utf16_from(value.subspan(sizeof(FileNameHead), 2u * head.name_length));
    if (any_) {
      const auto order = state_.upcase.compare(last_, name);
      if (std::is_gt(order))
        error("ntfs.index-order", fmt::format("'{}' stands before '{}'", text(last_), text(name)));
      if (std::is_eq(order) && (head.name_space != name_posix || last_ == name))
        error("ntfs.name-twice", fmt::format("'{}' stands there twice", text(name)));
    }
    any_ = true;
    if (name.find(u'/') != name.npos || name.find(u'\0') != name.npos || name.empty())
      error("ntfs.name-illegal", fmt::format("the name '{}' is no name", text(name)));
    last_ = std::move(name);
    const std::uint64_t reference = entry.reference.value();
    const std::uint64_t record = record_of(reference);
    if (record_of(head.parent.value()) != number_)
      error("ntfs.index-parent", fmt::format("'{}' says that it is in folder {}", text(last_),
                                             record_of(head.parent.value())));
    const bool there = record < state_.records.size() && state_.records[record].in_use &&
                       state_.records[record].sequence == sequence_of(reference);
    if (!there) {
      error("ntfs.name-dangling",
            fmt::format("'{}' names record {}, which isn't there", text(last_), record));
      return;
    }
    state_.names_of_folders.push_back(hash_name(reference, value));
  }

  static std::string text(std::u16string_view name) { return printable(to_utf8(name)); }

  // A bit for every block that the walk met, and no other.
  void check_bitmap(const AttributeView* bits) {
    const std::uint64_t blocks = end_ / block_bytes_;
    if (blocks == 0) return;
    if (bits == nullptr) {
      error("ntfs.index-bitmap", "the index has blocks but no bitmap");
      return;
    }
    const Bytes bytes = state_.volume.read_all(*bits, 64u << 20);
    for (std::uint64_t i = 0; i < blocks; ++i) {
      const bool set = i / 8 < bytes.size() && (bytes[i / 8] >> i % 8 & 1) != 0;
      const bool used = seen_.count(i) > 0;
      if (set == used) continue;
      state_.finding("ntfs.index-bitmap", used ? Severity::error : Severity::note, number_,
                     used
                         ? fmt::format("block {} is in use, but the bitmap says that it is free", i)
                         : fmt::format("the bitmap says that block {} is in use, but nothing leads "
                                       "to it",
                                       i));
    }
  }

  CheckState& state_;
  std::uint64_t number_;
  std::uint64_t unit_ = 4096;
  std::uint64_t block_bytes_ = 4096;
  RunMap map_;
  std::uint64_t end_ = 0;
  std::unordered_set<std::uint64_t> seen_;
  std::u16string last_;
  bool any_ = false;
};

// Every name of a record stands in a folder once, and every entry of a folder is a record's.
void compare_names(CheckState& state) {
  auto& mine = state.names_of_records;
  auto& theirs = state.names_of_folders;
  std::sort(mine.begin(), mine.end());
  std::sort(theirs.begin(), theirs.end());
  auto a = mine.begin();
  auto b = theirs.begin();
  while (a != mine.end() || b != theirs.end()) {
    if (b == theirs.end() || (a != mine.end() && *a < *b)) {
      state.error("ntfs.name-unlisted", a->record,
                  "a name of the file stands in no folder's index");
      ++a;
    } else if (a == mine.end() || *b < *a) {
      state.error("ntfs.name-unknown", b->record,
                  "a folder's entry is not a name that the file itself has");
      ++b;
    } else {
      if (a->whole != b->whole)
        state.finding("ntfs.name-copy", Severity::note, a->record,
                      "times, sizes or bits in a folder's entry differ from the file's own name");
      ++a;
      ++b;
    }
  }
}

// Which folders can be reached from the root, by the parents that the names say.
void check_reach(CheckState& state) {
  for (std::uint64_t number = first_user_record; number < state.records.size(); ++number) {
    const CheckState::Record& r = state.records[number];
    if (!r.in_use || !r.directory || r.extension) continue;
    std::uint64_t at = number;
    for (int depth = 0; at != record_root; ++depth) {
      const auto all = state.system_file(at);
      const AttributeView* name = find_attribute(all, at_file_name);
      if (name == nullptr || name->value.size() < sizeof(FileNameHead) || depth > 4096) {
        state.error("ntfs.unreachable", number, "the folder can't be reached from the root");
        break;
      }
      const std::uint64_t parent = record_of(load<FileNameHead>(name->value).parent.value());
      if (parent < number && parent != record_root) break;  // looked at already
      at = parent;
    }
  }
}

}  // namespace

void check_folders(CheckState& state) {
  for (const std::uint64_t number : state.folders) {
    try {
      FolderCheck(state, number).run();
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
      state.error("ntfs.index-entry", number, e.message());
    }
  }
  compare_names(state);
  check_reach(state);
}

}  // namespace nuvrat

// The rules of folders: blocks, order, every name once, every entry a copy of its file's name.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/file_tree.h>

#include "base/record.h"
#include "ntfs/check_state.h"
#include "ntfs/fixup.h"
#include "ntfs/folder_index.h"

namespace nuvrat::ntfs {
namespace {

class FolderCheck {
 public:
  FolderCheck(CheckState& state, std::uint64_t number) : state_(state), number_(number) {}

  void run() {
    const auto all = state_.system_file(number_);
    const AttributeView* root = find_attribute(all, at_index_root, u"$I30");
    if (root == nullptr) return;  // said where the record was looked at
    if (root->value.size() < sizeof(IndexRoot) + sizeof(IndexHeader)) {
      error(Rule::ntfs_index_root, "the index's root is cut off");
      return;
    }
    const auto head = load<IndexRoot>(root->value);
    const Geometry& g = state_.volume.geometry();
    unit_ = g.index_unit();
    block_bytes_ = head.block_size.value();
    if (head.type.value() != at_file_name || head.collation.value() != collate_file_name ||
        block_bytes_ != g.index_bytes || head.clusters_per_block != g.index_bytes / unit_) {
      error(Rule::ntfs_index_root,
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
  void error(Rule code, std::string text) { state_.error(code, number_, std::move(text)); }

  // A node being walked: its bytes and where its next entry begins.
  struct Node {
    Bytes bytes;
    std::size_t at;
    std::size_t end;
    bool has_children;
    bool descended = false;
  };

  // In the order of the index: each entry after everything below it on its left.
  void walk(const Bytes& root) {
    std::vector<Node> open;
    if (!push(root, sizeof(IndexRoot), open)) return;
    while (!open.empty()) {
      Node& node = open.back();
      if (sizeof(IndexEntry) > node.end - std::min(node.at, node.end)) {
        error(Rule::ntfs_index_entry, "a node of the index has no last entry");
        return;
      }
      const auto entry = load<IndexEntry>(node.bytes, node.at);
      const std::size_t length = entry.length.value();
      if (length < sizeof entry || length % 8 != 0 || length > node.end - node.at) {
        error(Rule::ntfs_index_entry, fmt::format("an entry says that it has {} bytes", length));
        return;
      }
      const bool child = (entry.flags.value() & entry_has_child) != 0;
      if (child != node.has_children) {
        error(Rule::ntfs_index_entry, "an entry has a child where its node says none, or none");
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
          error(Rule::ntfs_index_entry, "bytes are in use after a node's last entry");
        open.pop_back();
        continue;
      }
      const ByteView key =
          ByteView(node.bytes)
              .subspan(node.at + sizeof entry, length - sizeof entry - (child ? 8 : 0));
      take_entry(entry, key);
      if (foreign_ > max_foreign) return;  // these are another folder's blocks
      node.at += length;
    }
  }

  bool push(Bytes bytes, std::size_t header_at, std::vector<Node>& open) {
    const auto header = load<IndexHeader>(bytes, header_at);
    const std::uint64_t end = header_at + std::uint64_t{header.used.value()};
    const std::uint64_t first = header_at + std::uint64_t{header.first_entry.value()};
    if (end > bytes.size() || first > end || header.allocated.value() < header.used.value() ||
        header_at + std::uint64_t{header.allocated.value()} > bytes.size()) {
      error(Rule::ntfs_index_header, fmt::format("a node says that it uses {} of {} bytes",
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
      error(Rule::ntfs_index_block, fmt::format("the index leads to block {}, outside of it", vcn));
      return false;
    }
    if (!seen_.insert(vcn * unit_ / block_bytes_).second || open.size() > max_index_depth) {
      error(Rule::ntfs_index_block, fmt::format("the index leads to block {} twice", vcn));
      return false;
    }
    Bytes block(block_bytes_);
    state_.volume.read(map_, vcn * unit_, block);
    const auto head = load<IndexBlock>(block);
    if (std::string_view(head.multi.signature.data(), 4) != "INDX" || !unprotect(block)) {
      error(Rule::ntfs_index_torn, fmt::format("block {} of the index was not written whole", vcn));
      return false;
    }
    if (head.vcn.value() != vcn)
      error(Rule::ntfs_index_block,
            fmt::format("block {} says that it is block {}", vcn, head.vcn.value()));
    const std::size_t header_at = offsetof(IndexBlock, header);
    return push(std::move(block), header_at, open);
  }

  void take_entry(const IndexEntry& entry, ByteView key) {
    const std::size_t size = entry.key_length.value();
    if (size > key.size() || size < sizeof(FileNameHead) ||
        size < sizeof(FileNameHead) + std::size_t{2} * load<FileNameHead>(key).name_length) {
      error(Rule::ntfs_index_entry, "a name leaves its entry");
      return;
    }
    const ByteView value = key.first(size);
    const auto head = load<FileNameHead>(value);
    std::u16string name =
        utf16_from(value.subspan(sizeof(FileNameHead), std::size_t{2} * head.name_length));
    if (any_) {
      const auto order = state_.upcase.compare(last_, name);
      if (std::is_gt(order))
        error(Rule::ntfs_index_order,
              fmt::format("'{}' comes before '{}'", text(last_), text(name)));
      if (std::is_eq(order) && (head.name_space != name_posix || last_ == name))
        error(Rule::ntfs_name_twice, fmt::format("'{}' is there twice", text(name)));
    }
    any_ = true;
    if (name.find(u'/') != name.npos || name.find(u'\0') != name.npos || name.empty())
      error(Rule::ntfs_name_illegal, fmt::format("the name '{}' is not allowed", text(name)));
    last_ = std::move(name);
    const std::uint64_t reference = entry.reference.value();
    const std::uint64_t record = record_of(reference);
    if (record_of(head.parent.value()) != number_) {
      ++foreign_;
      error(Rule::ntfs_index_parent, fmt::format("'{}' says that it is in folder {}", text(last_),
                                                 record_of(head.parent.value())));
    }
    const CheckState::Record* r = state_.records.find(record);
    const bool there = r != nullptr && r->in_use && r->sequence == sequence_of(reference);
    if (!there) {
      error(Rule::ntfs_name_dangling,
            fmt::format("'{}' names record {}, which isn't there", text(last_), record));
      return;
    }
    if (r->directory != ((head.attributes.value() & file_name_directory) != 0))
      error(Rule::ntfs_name_form,
            fmt::format("'{}' says wrongly whether it is a folder", text(last_)));
    state_.names_of_folders.push_back(hash_name(reference, value));
  }

  static std::string text(std::u16string_view name) { return printable(to_utf8(name)); }

  // A bit for every block that the walk met, and no other.
  void check_bitmap(const AttributeView* bits) {
    const std::uint64_t blocks = end_ / block_bytes_;
    if (blocks == 0) return;
    if (bits == nullptr) {
      error(Rule::ntfs_index_bitmap, "the index has blocks but no bitmap");
      return;
    }
    if (!state_.index_bytes.take(end_)) {
      error(Rule::ntfs_index_block,
            "the indexes of folders share so many clusters that its bitmap is "
            "not looked at");
      return;
    }
    // Eight blocks at a time: most bytes are as they should be.
    auto next = seen_.begin();
    std::uint64_t at = 0;
    const auto compare = [&](std::uint8_t said) {
      std::uint8_t wanted = 0;
      for (; next != seen_.end() && *next < at + 8; ++next)
        wanted = static_cast<std::uint8_t>(wanted | 1u << (*next - at));
      for (unsigned bit = 0; said != wanted && bit < 8 && at + bit < blocks; ++bit)
        judge_block(at + bit, (said >> bit & 1) != 0, (wanted >> bit & 1) != 0);
      at += 8;
    };
    state_.volume.stream_own(*bits, [&](ByteView bytes) {
      for (std::size_t i = 0; i < bytes.size() && at < blocks; ++i) compare(bytes[i]);
    });
    for (; next != seen_.end(); ++next) judge_block(*next, false, true);
  }

  void judge_block(std::uint64_t number, bool set, bool used) {
    if (set == used) return;
    state_.finding(
        Rule::ntfs_index_bitmap, used ? Severity::error : Severity::note, number_,
        used ? fmt::format("block {} is in use, but the bitmap says that it is free", number)
             : fmt::format("the bitmap says that block {} is in use, but nothing leads to it",
                           number));
  }

  static constexpr unsigned max_foreign = 16;
  CheckState& state_;
  std::uint64_t number_;
  unsigned foreign_ = 0;  // names that say that they are in another folder
  std::uint64_t unit_ = 4096;
  std::uint64_t block_bytes_ = 4096;
  RunMap map_;
  std::uint64_t end_ = 0;
  std::set<std::uint64_t> seen_;
  std::u16string last_;
  bool any_ = false;
};

// Every name of a record is in a folder once, and every entry of a folder is a record's.
void compare_names(CheckState& state) {
  auto& mine = state.names_of_records;
  auto& theirs = state.names_of_folders;
  std::sort(mine.begin(), mine.end());
  std::sort(theirs.begin(), theirs.end());
  auto a = mine.begin();
  auto b = theirs.begin();
  while (a != mine.end() || b != theirs.end()) {
    if (b == theirs.end() || (a != mine.end() && *a < *b)) {
      state.error(Rule::ntfs_name_unlisted, a->record,
                  "a name of the file is in no folder's index");
      ++a;
    } else if (a == mine.end() || *b < *a) {
      state.error(Rule::ntfs_name_unknown, b->record,
                  "a folder's entry is not a name that the file itself has");
      ++b;
    } else {
      const CheckState::Record* r = state.records.find(a->record);
      const bool directory = r != nullptr && r->directory;
      if (!directory && b->said != a->said && b->said != a->real)
        state.finding(Rule::ntfs_name_copy, Severity::note, a->record,
                      "the size in a folder's entry is neither that of the file nor that in the "
                      "file's own name");
      ++a;
      ++b;
    }
  }
}

// Which folders can be reached from the root, by the parents that the names say, and whether any
// system can name them. Each is asked once: what its way up meets is known afterwards.
void check_reach(CheckState& state) {
  const auto& folders = state.folders;
  enum class Reach : std::uint8_t { unknown, on_the_way, yes, no };
  std::vector<Reach> reach(folders.size(), Reach::unknown);
  std::vector<std::size_t> units(folders.size());  // of the path, as far as it can be named
  const auto index_of = [&folders](std::uint64_t record) -> std::optional<std::size_t> {
    const auto it =
        std::lower_bound(folders.begin(), folders.end(), record,
                         [](const CheckState::Folder& f, std::uint64_t r) { return f.record < r; });
    if (it == folders.end() || it->record != record) return std::nullopt;
    return static_cast<std::size_t>(it - folders.begin());
  };
  std::vector<std::size_t> way;
  for (std::size_t i = 0; i < folders.size(); ++i) {
    std::optional<std::size_t> at = i;
    way.clear();
    while (at && reach[*at] == Reach::unknown && folders[*at].record != record_root) {
      reach[*at] = Reach::on_the_way;
      way.push_back(*at);
      at = index_of(folders[*at].parent);
    }
    const bool found = at && (folders[*at].record == record_root || reach[*at] == Reach::yes);
    std::size_t above = found ? units[*at] : 0;
    for (auto w = way.rbegin(); w != way.rend(); ++w) {
      reach[*w] = found ? Reach::yes : Reach::no;
      if (!found && folders[*w].record >= first_user_record)
        state.error(Rule::ntfs_unreachable, folders[*w].record,
                    "the folder can't be reached from the root");
      above = std::min(above + 1 + folders[*w].name_units, FileTree::max_path_units + 1);
      units[*w] = above;
      if (found && above > FileTree::max_path_units)
        state.error(Rule::ntfs_path_too_long, folders[*w].record,
                    "the folder is too deep for any system to name it");
    }
  }
}

}  // namespace

void check_folders(CheckState& state) {
  for (const auto& [number, parent, units] : state.folders) {
    try {
      FolderCheck(state, number).run();
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
      state.error(Rule::ntfs_index_entry, number, e.message());
    }
  }
  compare_names(state);
  check_reach(state);
}

}  // namespace nuvrat::ntfs

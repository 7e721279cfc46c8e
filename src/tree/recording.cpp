#include "tree/recording.h"

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <numeric>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "base/memory.h"
#include "base/record.h"
#include "base/temporary_file.h"
#include "device/io.h"
#include "tree/places.h"

namespace nuvrat {
using namespace tree;
namespace {

class TreeNodes final : public RecordedNodes {
 public:
  TreeNodes(const ManifestVolume& volume, std::uint32_t sector_size)
      : volume_(volume), tree_(volume.tree), sector_size_(sector_size) {}

  bool next(RecordedNode& out) override {
    while (at_ == children_.size()) {
      if (folders_.empty()) return false;
      folder_ = folders_.back();
      folders_.pop_back();
      children_ = tree_.sorted_children(folder_);
      at_ = 0;
      for (auto it = children_.rbegin(); it != children_.rend(); ++it) {
        if (tree_.is_directory(*it)) folders_.push_back(*it);
      }
    }
    const FileTree::Id id = children_[at_++];
    out.parent = folder_;
    out.id = id;
    out.name = tree_.name(id);
    out.info = tree_.info(id);
    out.valid_bytes = tree_.valid_bytes(id);
    out.digest = volume_.digests[id];
    out.placed = volume_.is_placed(id);
    out.runs = content_runs(tree_, id, sector_size_);
    const auto damage = volume_.unreadable.find(id);
    out.unreadable.clear();
    if (damage != volume_.unreadable.end()) out.unreadable = damage->second;
    return true;
  }

 private:
  const ManifestVolume& volume_;
  const FileTree& tree_;
  std::uint32_t sector_size_;
  std::vector<FileTree::Id> folders_{FileTree::root};  // still to come, the next one last
  FileTree::Id folder_ = FileTree::none;
  std::vector<FileTree::Id> children_;
  std::size_t at_ = 0;
};

// A node as it is put aside; its name, runs and unreadable parts follow.
struct StoredNode {
  FileTree::Id parent, id;
  std::uint64_t size, valid_bytes;
  Ticks created, modified, accessed;
  Digest digest;
  std::uint32_t attributes, runs, unreadable;
  std::uint16_t name;
  std::uint8_t directory, placed;
};

// The file is a row of blocks, each with its length and its checksum.
struct BlockHead {
  std::uint32_t bytes, crc;
};
constexpr std::size_t block_bytes = std::size_t{256} * 1024;

class BlockWriter {
 public:
  explicit BlockWriter(int file) : file_(file) {}

  template <typename Item>
  void add(const Item* items, std::size_t count) {
    const auto* bytes = reinterpret_cast<const std::uint8_t*>(items);
    block_.insert(block_.end(), bytes, bytes + count * sizeof(Item));
    if (block_.size() >= block_bytes) flush();
  }
  /// Where the next block begins.
  std::uint64_t flush() {
    if (block_.empty()) return end_;
    const BlockHead head{static_cast<std::uint32_t>(block_.size()), crc32(block_)};
    put(base::bytes_of(head));
    put(block_);
    block_.clear();
    return end_;
  }

 private:
  void put(ByteView bytes) {
    device::write_at(file_, end_, bytes);
    end_ += bytes.size();
  }

  int file_;
  Bytes block_;
  std::uint64_t end_ = 0;
};

class StoredNodes final : public RecordedNodes {
 public:
  StoredNodes(int file, std::uint64_t begin, std::uint64_t end)
      : file_(file), at_(begin), end_(end) {}

  bool next(RecordedNode& out) override {
    if (used_ == block_.size() && at_ == end_) return false;
    StoredNode node;
    take(&node, 1);
    out.parent = node.parent;
    out.id = node.id;
    out.info = {node.directory != 0, node.attributes, node.size,
                node.created,        node.modified,   node.accessed};
    out.valid_bytes = node.valid_bytes;
    out.digest = node.digest;
    out.placed = node.placed != 0;
    out.name.resize(node.name);
    take(out.name.data(), node.name);
    out.runs.resize(node.runs);
    take(out.runs.data(), node.runs);
    out.unreadable.resize(node.unreadable);
    take(out.unreadable.data(), node.unreadable);
    return true;
  }

 private:
  template <typename Item>
  void take(Item* items, std::size_t count) {
    static_assert(std::is_trivially_copyable_v<Item>);
    auto* out = reinterpret_cast<std::uint8_t*>(items);
    for (std::size_t left = count * sizeof(Item); left > 0;) {
      if (used_ == block_.size()) read_block();
      const std::size_t n = std::min(left, block_.size() - used_);
      std::memcpy(out, block_.data() + used_, n);
      out += n;
      used_ += n;
      left -= n;
    }
  }
  void read_block() {
    Bytes head(sizeof(BlockHead));
    get(head);
    const auto said = base::load<BlockHead>(head);
    block_.resize(std::min<std::uint64_t>(said.bytes, end_ - at_));
    get(block_);
    if (said.bytes != block_.size() || block_.empty() || crc32(block_) != said.crc)
      throw Error(ErrorCode::file, "what was recorded came back from a temporary file otherwise",
                  {}, "Is the disk of the case folder failing?");
    used_ = 0;
  }
  void get(ByteSpan out) {
    device::read_at(file_, at_, out);
    at_ += out.size();
  }

  int file_;
  std::uint64_t at_, end_;
  Bytes block_;
  std::size_t used_ = 0;
};

// With what was hashed since.
class SettledNodes final : public RecordedNodes {
 public:
  SettledNodes(std::unique_ptr<RecordedNodes> nodes, const SettledPlaces& settled)
      : nodes_(std::move(nodes)), settled_(settled) {}

  bool next(RecordedNode& out) override {
    if (!nodes_->next(out)) return false;
    if (!out.placed) return true;
    const auto& places = settled_.places;
    const auto it = std::lower_bound(
        places.begin(), places.end(), out.digest,
        [](const SettledPlaces::Place& p, const Digest& wanted) { return p.place < wanted; });
    if (it == places.end() || it->place != out.digest) return true;
    const auto damage = settled_.unreadable.find(out.digest);
    if (damage != settled_.unreadable.end()) out.unreadable = damage->second;
    out.digest = it->contents;
    out.placed = false;
    return true;
  }

 private:
  std::unique_ptr<RecordedNodes> nodes_;
  const SettledPlaces& settled_;
};

template <typename Items, typename Number>
std::uint64_t sum_of(const Items& items, Number number) {
  return std::accumulate(items.begin(), items.end(), std::uint64_t{0},
                         [&](std::uint64_t sum, const auto& item) { return sum + number(item); });
}

}  // namespace

Recording::Recording(const Manifest& manifest) : manifest_(&manifest) {
  head_.device = manifest.device;
  head_.zone = manifest.zone;
  head_.sector_size = manifest.sector_size;
  head_.ranges = manifest.ranges;
  head_.chosen = manifest.chosen;
  head_.proof = manifest.proof;
  for (const ManifestVolume& v : manifest.volumes)
    volumes_.push_back({v.number, v.start, v.sectors, v.info, v.tree.precision(), v.left_out,
                        v.tree.file_count(), v.tree.total_bytes(), v.unreadable.size(),
                        volumes_.size()});
}

Recording Recording::put_aside(Manifest manifest, const std::filesystem::path& folder) {
  Recording out(manifest);
  try {
    out.file_ = base::temporary_file(folder, "");
    out.write_nodes(manifest);
    out.seal_ = out.seal();
    out.manifest_ = nullptr;
    manifest = {};
    base::give_back_memory();
  } catch (const Error& e) {
    if (e.code() != ErrorCode::file) throw;
    out.file_.reset();
    out.kept_ = std::make_unique<const Manifest>(std::move(manifest));
    out.manifest_ = out.kept_.get();
  }
  return out;
}

void Recording::write_nodes(const Manifest& manifest) {
  BlockWriter writer(file_.get());
  for (const ManifestVolume& volume : manifest.volumes) {
    begins_.push_back(writer.flush());
    TreeNodes nodes(volume, manifest.sector_size);
    for (RecordedNode n; nodes.next(n);) {
      StoredNode stored{};
      stored.parent = n.parent;
      stored.id = n.id;
      stored.size = n.info.size;
      stored.valid_bytes = n.valid_bytes;
      stored.created = n.info.created;
      stored.modified = n.info.modified;
      stored.accessed = n.info.accessed;
      stored.digest = n.digest;
      stored.attributes = n.info.attributes;
      stored.runs = static_cast<std::uint32_t>(n.runs.size());
      stored.unreadable = static_cast<std::uint32_t>(n.unreadable.size());
      stored.name = static_cast<std::uint16_t>(n.name.size());
      stored.directory = n.info.directory ? 1 : 0;
      stored.placed = n.placed ? 1 : 0;
      writer.add(&stored, 1);
      writer.add(n.name.data(), n.name.size());
      writer.add(n.runs.data(), n.runs.size());
      writer.add(n.unreadable.data(), n.unreadable.size());
    }
  }
  begins_.push_back(writer.flush());
}

std::unique_ptr<RecordedNodes> Recording::nodes(const RecordedVolume& volume) const {
  std::unique_ptr<RecordedNodes> out;
  if (manifest_ != nullptr)
    out = std::make_unique<TreeNodes>(manifest_->volumes[volume.at], manifest_->sector_size);
  else
    out = std::make_unique<StoredNodes>(file_.get(), begins_[volume.at], begins_[volume.at + 1]);
  const auto settled = settled_.find(volume.start);
  if (settled != settled_.end())
    out = std::make_unique<SettledNodes>(std::move(out), settled->second);
  return out;
}

std::unique_ptr<RecordedNodes> Recording::nodes_at(std::uint64_t start) const {
  const auto it = std::find_if(volumes_.begin(), volumes_.end(),
                               [start](const RecordedVolume& v) { return v.start == start; });
  return it == volumes_.end() ? nullptr : nodes(*it);
}

void Recording::settle(std::uint64_t start, SettledPlaces places) {
  settled_[start] = std::move(places);
  for (RecordedVolume& v : volumes_) {
    if (v.start != start) continue;
    const auto all = nodes(v);
    v.unreadable = 0;
    for (RecordedNode node; all->next(node);) v.unreadable += node.unreadable.empty() ? 0 : 1;
  }
}

void Recording::settle(const ManifestRange& range) {
  for (ManifestRange& r : head_.ranges) {
    if (r.start == range.start) r = range;
  }
}

Manifest Recording::bring_back() const {
  Manifest out = head_;
  for (const RecordedVolume& v : volumes_) {
    ManifestVolume& volume = out.volumes.emplace_back();
    volume.number = v.number;
    volume.start = v.start;
    volume.sectors = v.sectors;
    volume.info = v.info;
    volume.left_out = v.left_out;
    FileTree& tree = volume.tree;
    tree.set_precision(v.precision);
    volume.digests.resize(1);
    volume.placed.resize(1);
    std::map<FileTree::Id, FileTree::Id> folders{{FileTree::root, FileTree::root}};
    const auto all = nodes(v);
    for (RecordedNode node; all->next(node);) {
      const FileTree::Id id = tree.add(folders.at(node.parent), node.name, {}, node.info);
      if (node.info.directory) folders.emplace(node.id, id);
      if (node.valid_bytes != node.info.size) tree.set_valid_bytes(id, node.valid_bytes);
      volume.digests.push_back(node.digest);
      volume.placed.push_back(node.placed);
      if (!node.unreadable.empty()) volume.unreadable[id] = node.unreadable;
    }
  }
  return out;
}

void Recording::choose(const std::set<std::uint64_t>& starts) {
  const auto is_other = [&starts](const auto& part) { return starts.count(part.start) == 0; };
  std::erase_if(volumes_, is_other);
  std::erase_if(head_.ranges, is_other);
  head_.chosen = true;
  seal_.clear();  // it was of all
}

std::uint64_t Recording::files() const {
  return sum_of(volumes_, [](const RecordedVolume& v) { return v.files; });
}
std::uint64_t Recording::bytes() const {
  return sum_of(volumes_, [](const RecordedVolume& v) { return v.bytes; });
}
std::uint64_t Recording::unreadable_files() const {
  return sum_of(volumes_, [](const RecordedVolume& v) { return v.unreadable; });
}
std::uint64_t Recording::unreadable_ranges() const {
  return sum_of(head_.ranges, [](const ManifestRange& r) { return r.is_unreadable() ? 1u : 0u; });
}
std::uint64_t Recording::left_out() const {
  return sum_of(volumes_, [](const RecordedVolume& v) { return v.left_out.size(); }) +
         sum_of(head_.ranges, [](const ManifestRange& r) { return r.fault.empty() ? 0u : 1u; });
}

std::string Recording::seal() const {
  if (head_.proof != Proof::contents || manifest_ == nullptr) return seal_;
  std::vector<const ManifestVolume*> of;
  for (const RecordedVolume& v : volumes_) of.push_back(&manifest_->volumes[v.at]);
  return seal_of(of);
}

}  // namespace nuvrat

#include "fat/build.h"

#include <algorithm>
#include <numeric>

#include <nuvrat/error.h>

#include "base/ahead.h"
#include "fat/writer_directory.h"
#include "tree/pieces.h"

namespace nuvrat::fat {
namespace {

// Bytes into clusters, one range after the other; the rest of the last one is zero.
class ClusterWriter {
 public:
  ClusterWriter(const Geometry& geometry, std::vector<ClusterRange> to, const BuildCallbacks& out)
      : geometry_(geometry), to_(std::move(to)), out_(out) {
    // Whole clusters, about a megabyte.
    piece_ = std::max<std::size_t>(1, (1u << 20) / geometry.cluster_bytes());
  }

  void add(ByteView bytes) {
    while (!bytes.empty()) {
      const std::size_t room = piece_ * geometry_.cluster_bytes() - buffer_.size();
      const std::size_t n = std::min(bytes.size(), room);
      buffer_.insert(buffer_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
      bytes = bytes.subspan(n);
      if (n == room) flush();
    }
  }

  void finish() {
    buffer_.resize(div_up<std::size_t>(buffer_.size(), geometry_.cluster_bytes()) *
                   geometry_.cluster_bytes());
    flush();
    const std::uint64_t left =
        std::accumulate(to_.begin() + static_cast<std::ptrdiff_t>(at_), to_.end(), std::uint64_t{0},
                        [](std::uint64_t sum, const ClusterRange& r) { return sum + r.count; });
    if (left > 0) throw Error(ErrorCode::guard, "contents are shorter than they were planned");
  }

 private:
  void flush() {
    ByteView left = buffer_;
    while (!left.empty()) {
      if (at_ == to_.size()) throw Error(ErrorCode::guard, "contents have outgrown their plan");
      ClusterRange& range = to_[at_];
      const auto count = static_cast<std::uint32_t>(
          std::min<std::uint64_t>(range.count, left.size() / geometry_.cluster_bytes()));
      const ByteView part = left.first(std::size_t{count} * geometry_.cluster_bytes());
      out_.write(geometry_.cluster_start(range.first), part);
      left = left.subspan(part.size());
      range.first += count;
      range.count -= count;
      if (range.count == 0) ++at_;
    }
    buffer_.clear();
  }

  const Geometry& geometry_;
  std::vector<ClusterRange> to_;
  const BuildCallbacks& out_;
  std::size_t piece_;
  Bytes buffer_;
  std::size_t at_ = 0;
};

// Passes on those bytes of a file that lie in clusters which are copied.
class CopiedParts {
 public:
  CopiedParts(const Plan& plan, FileTree::Id id, const BuildCallbacks& out)
      : cluster_(plan.geometry().cluster_bytes()) {
    std::vector<ClusterRange> to;
    for (const Plan::Part& p : plan.parts_of(id)) {
      if (!p.copied) continue;
      parts_.push_back({p.index * cluster_, std::uint64_t{p.clusters.count} * cluster_});
      to.push_back(p.clusters);
    }
    writer_.emplace(plan.geometry(), std::move(to), out);
  }

  // The next bytes of the file.
  void add(ByteView bytes) {
    while (!bytes.empty() && next_ < parts_.size()) {
      const SectorRange& p = parts_[next_];
      if (offset_ < p.first) {
        const std::uint64_t skip = std::min<std::uint64_t>(bytes.size(), p.first - offset_);
        bytes = bytes.subspan(skip);
        offset_ += skip;
        continue;
      }
      const std::uint64_t n = std::min<std::uint64_t>(bytes.size(), p.end() - offset_);
      writer_->add(bytes.first(n));
      bytes = bytes.subspan(n);
      offset_ += n;
      if (offset_ == p.end()) ++next_;
    }
    offset_ += bytes.size();
  }
  // Whether any of these bytes would be taken.
  [[nodiscard]] bool wants(std::uint64_t offset, std::uint64_t length) const {
    return std::any_of(parts_.begin() + static_cast<std::ptrdiff_t>(next_), parts_.end(),
                       [&](const SectorRange& p) {
                         return p.overlaps({offset, length});
                       });
  }
  void finish() { writer_->finish(); }

 private:
  std::uint64_t cluster_;
  std::vector<SectorRange> parts_;  // in bytes of the file
  std::optional<ClusterWriter> writer_;
  std::size_t next_ = 0;
  std::uint64_t offset_ = 0;
};

class VolumeBuilder {
 public:
  VolumeBuilder(const Plan& plan, const BuildCallbacks& to)
      : plan_(plan), tree_(plan.tree()), to_(to), buffer_(1u << 20) {}

  void run() {
    to_.announce("folders of the FAT volume");
    write_folders();
    to_.announce("contents that can't stay where they are");
    for (const auto& [id, runs] : plan_.given()) {
      if (!tree_.is_directory(id)) copy(id);
    }
    to_.announce("FATs");
    write_fats();
  }

 private:
  struct Folder {
    std::vector<ClusterRange> chain;
    Bytes bytes;
  };

  // Made on every core, about a megabyte at a time; written in order.
  void write_folders() {
    constexpr std::uint64_t batch_bytes = 1u << 20;
    std::vector<std::vector<FileTree::Id>> batches;
    std::uint64_t bytes = batch_bytes;
    for (FileTree::Id id = 0; id < tree_.size(); ++id) {
      if (!tree_.is_directory(id)) continue;
      if (bytes >= batch_bytes) {
        batches.emplace_back();
        bytes = 0;
      }
      batches.back().push_back(id);
      for (const ClusterRange& r : plan_.chain_of(id))
        bytes += std::uint64_t{r.count} * plan_.geometry().cluster_bytes();
    }
    base::make_ahead(
        batches.size(),
        [&](std::size_t i) {
          std::vector<Folder> out;
          for (const FileTree::Id id : batches[i]) out.push_back(make_folder(id));
          return out;
        },
        [this](const std::vector<Folder>& made) {
          for (const Folder& folder : made) write_folder(folder);
        });
  }

  [[nodiscard]] Folder make_folder(FileTree::Id id) const {
    std::vector<Plan::Entry> entries;
    const auto folder = plan_.directory_of(id, entries);
    for (const Plan::Entry& e : entries) folder->set_cluster(e.index, plan_.first_cluster(e.id));
    if (id != FileTree::root) {
      const FileTree::Id above = tree_.parent(id);
      folder->set_cluster(0, plan_.first_cluster(id));
      folder->set_cluster(1, above == FileTree::root ? 0 : plan_.first_cluster(above));
    }
    Folder out{plan_.chain_of(id), folder->bytes()};
    const Geometry& g = plan_.geometry();
    if (out.chain.empty()) out.bytes.resize(std::size_t{g.root_sectors} * g.sector_bytes);
    if (out.bytes.empty()) out.bytes.resize(1);  // an empty root
    return out;
  }

  void write_folder(const Folder& folder) {
    const Geometry& g = plan_.geometry();
    if (folder.chain.empty()) {
      to_.write(g.root_start(), folder.bytes);
      return;
    }
    ClusterWriter out(g, folder.chain, to_);
    out.add(folder.bytes);
    out.finish();
  }

  void copy(FileTree::Id id) {
    CopiedParts out(plan_, id, to_);
    if (tree_.stored(id) == Stored::elsewhere) {
      to_.contents(id, [&](ByteView bytes) { out.add(bytes); });
      out.finish();
      return;
    }
    // Another name has the extents of the first.
    const auto add = [&out](ByteView piece) { out.add(piece); };
    const std::uint64_t missing = tree::each_piece(
        tree_, id, plan_.geometry().sector_bytes, buffer_,
        tree::PieceTaker{[&](std::uint64_t lba, ByteSpan piece, std::uint64_t offset) {
                           if (out.wants(offset, piece.size()))
                             to_.read(lba, piece);  // else nothing takes it
                         },
                         add, [&](std::uint64_t zeros) { tree::give_zeros(zeros, buffer_, add); }});
    if (missing > 0)
      throw Error(ErrorCode::damaged, "the file has fewer sectors than its size says",
                  {.path = tree_.path(id)});
    out.finish();
  }

  struct Link {
    std::uint32_t first, count;
    std::uint32_t next;  // what the last of them says; the others lead to the next
    bool bad;
  };

  [[nodiscard]] std::vector<Link> links() const {
    std::vector<Link> out;
    plan_.each_chain([&](const std::vector<ClusterRange>& chain) {
      for (std::size_t i = 0; i < chain.size(); ++i)
        out.push_back({chain[i].first, chain[i].count,
                       i + 1 < chain.size() ? chain[i + 1].first : end_of_chain, false});
    });
    for (const ClusterRange& r : plan_.bad_clusters())
      out.push_back({r.first, r.count, bad_cluster, true});
    std::sort(out.begin(), out.end(),
              [](const Link& a, const Link& b) { return a.first < b.first; });
    return out;
  }

  // Piece by piece, the same for every copy.
  void write_fats() {
    const Geometry& g = plan_.geometry();
    const std::vector<Link> all = links();
    const bool narrow = g.kind == VolumeKind::fat12;
    const std::size_t width = g.kind == VolumeKind::fat16 ? 2 : 4;
    const std::uint64_t bytes = std::uint64_t{g.fat_sectors} * g.sector_bytes;
    // A FAT12, the only one whose entries straddle bytes, is one piece.
    const std::uint64_t piece = narrow ? bytes : std::min<std::uint64_t>(bytes, 1u << 18);
    auto link = all.begin();
    for (std::uint64_t at = 0; at < bytes; at += piece) {
      Bytes out(std::min(piece, bytes - at));
      const std::uint64_t base = narrow ? 0 : at / width;
      const std::uint64_t end = narrow ? g.clusters + 2 : base + out.size() / width;
      const auto put = [&](std::uint64_t cluster, std::uint32_t value) {
        narrow ? put12(out, cluster, value) : put_wide(out, (cluster - base) * width, width, value);
      };
      if (base == 0) {
        put(0, 0x0FFFFFF8);
        put(1, end_of_chain);
      }
      for (; link != all.end() && link->first < end; ++link) {
        const std::uint64_t stop = std::uint64_t{link->first} + link->count;
        for (std::uint64_t c = std::max<std::uint64_t>(link->first, base); c < std::min(stop, end);
             ++c) {
          const bool last = link->bad || c + 1 == stop;
          put(c, last ? link->next : static_cast<std::uint32_t>(c + 1));
        }
        if (stop > end) break;  // it goes on in the next piece
      }
      for (std::uint32_t copy = 0; copy < g.fats; ++copy)
        to_.write(g.fat_start(copy) + at / g.sector_bytes, out);
    }
  }

  static void put_wide(ByteSpan out, std::uint64_t at, std::size_t width, std::uint32_t value) {
    for (std::size_t i = 0; i < width; ++i) out[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
  }
  static void put12(ByteSpan out, std::uint64_t cluster, std::uint32_t value) {
    const std::size_t at = cluster + cluster / 2;
    const std::uint32_t v = (value & 0xFFF) << (cluster % 2 == 0 ? 0 : 4);
    out[at] = static_cast<std::uint8_t>(out[at] | v);
    out[at + 1] = static_cast<std::uint8_t>(out[at + 1] | v >> 8);
  }

  const Plan& plan_;
  const FileTree& tree_;
  const BuildCallbacks& to_;
  Bytes buffer_;
};

}  // namespace

void write_volume(const Plan& plan, const BuildCallbacks& to) {
  VolumeBuilder(plan, to).run();
}

}  // namespace nuvrat::fat

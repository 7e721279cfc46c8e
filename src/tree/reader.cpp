// Hashing contents: in disk order, in large pieces, and sector by sector where a piece fails.

#include <algorithm>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/manifest.h>

#include "base/memory.h"
#include "tree/hash_workers.h"
#include "tree/known.h"
#include "tree/pieces.h"
#include "tree/places.h"
#include "tree/readable.h"

namespace nuvrat {
using namespace tree;
namespace {

constexpr std::uint64_t piece_bytes = 1u << 20;

// A file whose holes have as many bytes fits into no FAT, so its hash needn't be that of all its
// zeros: a sparse file may claim sixteen terabytes.
constexpr std::uint64_t long_holes = std::uint64_t{1} << 32;
// What is packed, or a stream, is given byte by byte, as far as anybody would wait for it.
constexpr std::uint64_t max_elsewhere = std::uint64_t{1} << 44;

void note_unreadable(std::vector<ByteRange>& out, std::uint64_t offset, std::uint64_t length) {
  if (!out.empty() && out.back().offset + out.back().length == offset) {
    out.back().length += length;
  } else {
    out.push_back({offset, length});
  }
}

// Reads a piece; what the device does not give stays zero and is noted, sector by sector.
void read_piece(const Device& device, std::uint64_t lba, ByteSpan out, std::uint64_t offset,
                std::vector<ByteRange>& unreadable) {
  try {
    device.read_once(lba, out);
    return;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
  }
  const std::uint64_t size = device.sector_size();
  if (lba >= device.there()) {  // the rest of an image that was cut off needn't be tried
    std::fill(out.begin(), out.end(), std::uint8_t{0});
    note_unreadable(unreadable, offset, out.size());
    return;
  }
  for (std::uint64_t at = 0; at < out.size(); at += size) {
    const ByteSpan sector = out.subspan(at, size);
    try {
      device.read_once(lba + at / size, sector);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::device_read) throw;
      std::fill(sector.begin(), sector.end(), std::uint8_t{0});
      note_unreadable(unreadable, offset + at, size);
    }
  }
}

void stop_if_cancelled(const Progress& progress) {
  if (progress.cancelled()) {
    throw Error(ErrorCode::cancelled, "stopped while the files were being read");
  }
}

// Gives what is packed, or inside a record, as far as it can be had; returns why no more.
std::string read_elsewhere(VolumeReader& reader, const FileTree& tree, FileTree::Id id,
                           ByteSink sink, std::vector<ByteRange>& unreadable) {
  if (tree.bytes(id) > max_elsewhere) {
    note_unreadable(unreadable, 0, tree.bytes(id));
    return "it claims to be too long to be unpacked";
  }
  std::uint64_t given = 0;
  try {
    reader.read_contents(id, [&](ByteView bytes) {
      sink(bytes);
      given += bytes.size();
    });
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read && e.code() != ErrorCode::damaged) throw;
    note_unreadable(unreadable, given, tree.bytes(id) - std::min(given, tree.bytes(id)));
    return e.message();
  }
  return "";
}

class ContentHasher {
 public:
  // Without a reader nothing can be hashed that is stored elsewhere than in extents.
  ContentHasher(const Device& volume, VolumeReader* reader, Progress& progress,
                HashWorkers& workers)
      : reader_(reader),
        device_(volume),
        progress_(progress),
        workers_(workers),
        buffer_(piece_bytes) {}

  // The digest comes, in that slot, when the workers are done.
  void hash(const FileTree& tree, FileTree::Id id, std::uint32_t slot,
            std::vector<ByteRange>& unreadable) {
    if (tree.stored(id) == Stored::elsewhere) {
      hash_elsewhere(tree, id, unreadable);
      workers_.end(slot);
      return;
    }
    const bool by_length = has_long_holes(tree, id, device_.sector_size());
    std::uint64_t hole = 0;  // zeros since the last byte that a sector holds
    const auto end_hole = [&] {
      if (hole == 0) return;
      const std::string words = fmt::format("hole {}\n", hole);
      workers_.add(Bytes(words.begin(), words.end()));
      hole = 0;
    };
    const std::uint64_t missing =
        each_piece(tree, id, device_.sector_size(), buffer_,
                   PieceTaker{[&](std::uint64_t lba, ByteSpan piece, std::uint64_t offset) {
                                read_piece(device_, lba, piece, offset, unreadable);
                              },
                              [&](ByteView piece) {
                                end_hole();
                                add(piece);
                              },
                              [&](std::uint64_t zeros) {
                                if (by_length) {
                                  hole += zeros;
                                  progress_.advance(zeros);
                                } else {
                                  give_zeros(zeros, buffer_, [&](ByteView piece) { add(piece); });
                                }
                              }});
    end_hole();
    // A chain shorter than the size says.
    if (missing > 0) note_unreadable(unreadable, tree.valid_bytes(id) - missing, missing);
    workers_.end(slot);
  }

 private:
  void add(ByteView bytes) {
    workers_.add(bytes);
    progress_.advance(bytes.size());
    stop_if_cancelled(progress_);
  }

  void hash_elsewhere(const FileTree& tree, FileTree::Id id, std::vector<ByteRange>& unreadable) {
    (void)read_elsewhere(
        *reader_, tree, id, [this](ByteView bytes) { add(bytes); }, unreadable);
  }

  VolumeReader* reader_;
  const Device& device_;
  Progress& progress_;
  HashWorkers& workers_;
  Bytes buffer_;
};

}  // namespace

void read_file(VolumeReader& reader, std::string_view path, ByteSink sink) {
  const FileTree& tree = reader.tree();
  const FileTree::Id id = tree.find(path);
  if (id == FileTree::none || tree.is_directory(id))
    throw Error(ErrorCode::words,
                id == FileTree::none ? "there is no such file" : "this is a folder",
                {.path = std::string(path)});
  if (tree.stored(id) == Stored::elsewhere) {
    reader.read_contents(id, sink);
    return;
  }
  Bytes buffer(piece_bytes);
  const std::uint64_t missing =
      each_piece(tree, id, reader.device().sector_size(), buffer,
                 PieceTaker{[&](std::uint64_t lba, ByteSpan piece, std::uint64_t) {
                              reader.device().read_once(lba, piece);
                            },
                            sink, [&](std::uint64_t zeros) { give_zeros(zeros, buffer, sink); }});
  if (missing > 0)
    throw Error(ErrorCode::damaged, "the file has fewer sectors than its size says",
                {.path = std::string(path)}, "See 'nuvrat check'");
}

Readable tree::read_readable(VolumeReader& reader, FileTree::Id id, ByteSink sink) {
  const FileTree& tree = reader.tree();
  Readable out;
  if (tree.stored(id) == Stored::elsewhere) {
    out.reason = read_elsewhere(reader, tree, id, sink, out.missing);
    return out;
  }
  Bytes buffer(piece_bytes);
  const std::uint64_t missing =
      each_piece(tree, id, reader.device().sector_size(), buffer,
                 PieceTaker{[&](std::uint64_t lba, ByteSpan piece, std::uint64_t offset) {
                              read_piece(reader.device(), lba, piece, offset, out.missing);
                            },
                            sink, [&](std::uint64_t zeros) { give_zeros(zeros, buffer, sink); }});
  if (missing > 0) {
    out.reason = "it has fewer sectors than its size says";
    if (tree.valid_bytes(id) < tree.bytes(id)) throw Error(ErrorCode::damaged, out.reason);
    note_unreadable(out.missing, tree.bytes(id) - missing, missing);
  }
  return out;
}

namespace {

// Where a file's contents begin and how long they are: files that begin with a hole, or are nothing
// but one, still have places of their own in the order.
std::pair<std::uint64_t, std::uint64_t> place_of(const FileTree& tree, FileTree::Id id) {
  for (const SectorRange& e : tree.extents(id)) {
    if (e.first < FileTree::hole) return {e.first, tree.bytes(id)};
  }
  return {0, tree.bytes(id)};
}

// Files with contents, in the order in which these begin on the disk.
std::vector<FileTree::Id> disk_order(const FileTree& tree) {
  std::vector<FileTree::Id> order;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (!tree.is_directory(id)) order.push_back(id);
  }
  std::stable_sort(order.begin(), order.end(), [&tree](FileTree::Id a, FileTree::Id b) {
    return place_of(tree, a) < place_of(tree, b);
  });
  return order;
}

// What is known without reading.
class KnownDigests final : public NodePairs {
 public:
  // `start`: where the volume begins now.
  KnownDigests(const KnownContents& known, std::uint64_t start, std::uint32_t sector_size,
               const FileTree& tree, ManifestVolume& out)
      : known_(known),
        sector_size_(sector_size),
        later_(start - known.start),
        tree_(tree),
        out_(out),
        known_nodes_(tree.size()) {
    pair_nodes(known.recorded, tree, known.renamed, *this);
  }

  [[nodiscard]] bool has(FileTree::Id id) const { return known_nodes_[id]; }

  void both(const RecordedNode& then, const std::u16string& /*folder*/, FileTree::Id id) override {
    if (then.placed || then.runs.empty() || tree_.is_directory(id) ||
        then.info.size != tree_.bytes(id) || then.valid_bytes != tree_.valid_bytes(id))
      return;
    // By the sectors that hold bytes of it: formats differ in what more a file owns.
    std::vector<SectorRange> runs = content_runs(tree_, id, sector_size_);
    for (SectorRange& r : runs) {
      if (r.first >= FileTree::hole) continue;
      r.first += later_;  // as the recorded volume counts
      if (known_.written.first_overlap({known_.start + r.first, r.count})) return;
    }
    if (runs != then.runs) return;
    out_.digests[id] = then.digest;
    if (!then.unreadable.empty()) out_.unreadable[id] = then.unreadable;
    known_nodes_[id] = true;
  }

 private:
  const KnownContents& known_;
  std::uint32_t sector_size_;
  std::uint64_t later_;  // sectors; wraps where the volume begins earlier now
  const FileTree& tree_;
  ManifestVolume& out_;
  std::vector<bool> known_nodes_;
};

}  // namespace

bool tree::has_long_holes(const FileTree& tree, FileTree::Id id, std::uint32_t sector_size) {
  std::uint64_t left = tree.valid_bytes(id);
  std::uint64_t zeros = tree.bytes(id) - left;
  for (const SectorRange& e : tree.extents(id)) {
    const std::uint64_t n =
        e.count < div_up<std::uint64_t>(left, sector_size) ? e.count * sector_size : left;
    if (e.first >= FileTree::hole) zeros += n;
    left -= n;
  }
  return zeros >= long_holes;
}

std::vector<HashedFile> tree::hash_files(const Device& volume, const FileTree& tree,
                                         std::vector<FileTree::Id> ids, Progress& progress) {
  std::sort(ids.begin(), ids.end(), [&tree](FileTree::Id a, FileTree::Id b) {
    return std::pair(place_of(tree, a), a) < std::pair(place_of(tree, b), b);
  });
  std::vector<HashedFile> out;
  out.reserve(ids.size());
  std::vector<Digest> digests(ids.size());
  {
    HashWorkers workers(digests);
    ContentHasher hasher(volume, nullptr, progress, workers);
    for (const FileTree::Id id : ids) {
      HashedFile& file = out.emplace_back();
      file.id = id;
      hasher.hash(tree, id, static_cast<std::uint32_t>(out.size() - 1), file.unreadable);
    }
    workers.finish();
  }
  for (std::size_t i = 0; i < out.size(); ++i) out[i].digest = digests[i];
  return out;
}

namespace {

ManifestVolume record(VolumeReader& reader, std::uint64_t start, Progress& progress,
                      const KnownContents* known, Proof proof) {
  ManifestVolume out;
  const FileTree& tree = reader.tree();
  base::give_back_memory();  // what the reader needed on the way
  out.left_out = reader.left_out();
  out.info = reader.info();
  out.start = start;
  out.sectors = reader.device().sectors();
  out.digests.resize(tree.size());
  if (proof == Proof::places) out.placed.resize(tree.size());
  std::optional<KnownDigests> same;
  if (known != nullptr) same.emplace(*known, start, reader.device().sector_size(), tree, out);
  {
    HashWorkers workers(out.digests);
    ContentHasher hasher(reader.device(), &reader, progress, workers);
    for (const FileTree::Id id : disk_order(tree)) {
      if (tree.link(id) != FileTree::none) continue;
      if (tree.stored(id) != Stored::elsewhere &&
          has_long_holes(tree, id, reader.device().sector_size()))
        out.holes_by_length.insert(id);
      if (proof == Proof::places) {
        if (const auto place = place_digest(tree, id, start, reader.device().sector_size())) {
          out.digests[id] = *place;
          out.placed[id] = true;
          continue;
        }
      }
      if (same && same->has(id)) {
        progress.advance(tree.bytes(id));
        continue;
      }
      std::vector<ByteRange> unreadable;
      hasher.hash(tree, id, id, unreadable);
      if (!unreadable.empty()) out.unreadable[id] = std::move(unreadable);
    }
    workers.finish();
  }
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    const FileTree::Id link = tree.link(id);
    if (link == FileTree::none) continue;
    out.digests[id] = out.digests[link];
    if (out.holes_by_length.contains(link)) out.holes_by_length.insert(id);
    if (out.is_placed(link)) out.placed[id] = true;
    if (const auto it = out.unreadable.find(link); it != out.unreadable.end())
      out.unreadable[id] = it->second;
  }
  out.tree = reader.take_tree();
  return out;
}

}  // namespace

ManifestVolume record_volume(VolumeReader& reader, std::uint64_t start, Progress& progress,
                             Proof proof) {
  return record(reader, start, progress, nullptr, proof);
}

ManifestVolume tree::record_known(VolumeReader& reader, std::uint64_t start, Progress& progress,
                                  const KnownContents& known) {
  return record(reader, start, progress, &known, Proof::contents);
}

Digest range_digest(const Device& device, SectorRange range, Progress& progress,
                    std::vector<ByteRange>& unreadable) {
  const Window window(device, range);
  const std::uint64_t size = window.sector_size();
  const std::uint64_t per_piece = piece_bytes / size;
  Bytes buffer(piece_bytes);
  const Digest zero_piece = Sha256::of(buffer);
  Sha256 all;
  std::uint64_t data = window.next_data(0);
  for (std::uint64_t at = 0; at < window.sectors(); at += per_piece) {
    const std::uint64_t count = std::min(per_piece, window.sectors() - at);
    if (data < at) data = window.next_data(at);
    if (data >= at + count && count == per_piece) {
      all.add(zero_piece.bytes);
    } else {
      const ByteSpan piece = ByteSpan(buffer).first(count * size);
      read_piece(window, at, piece, at * size, unreadable);
      all.add(Sha256::of(piece).bytes);
    }
    progress.advance(count * size);
    stop_if_cancelled(progress);
  }
  return all.finish();
}

}  // namespace nuvrat

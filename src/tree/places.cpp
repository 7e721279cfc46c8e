#include "tree/places.h"

#include <algorithm>
#include <numeric>
#include <utility>

#include <fmt/core.h>

namespace nuvrat {
using namespace tree;

std::vector<SectorRange> tree::content_runs(const FileTree& tree, FileTree::Id id,
                                            std::uint32_t sector_size) {
  std::vector<SectorRange> out;
  if (tree.stored(id) != Stored::extents || tree.bytes(id) == 0) return out;
  std::uint64_t left = div_up<std::uint64_t>(tree.valid_bytes(id), sector_size);
  for (const SectorRange& extent : tree.extents(id)) {
    const std::uint64_t count = std::min(extent.count, left);
    if (count == 0) break;
    left -= count;
    const bool hole = extent.first >= FileTree::hole;
    const bool goes_on = !out.empty() && (hole ? out.back().first >= FileTree::hole
                                               : out.back().end() == extent.first);
    if (goes_on) {
      out.back().count += count;
    } else {
      out.push_back({hole ? FileTree::hole : extent.first, count});
    }
  }
  if (left > 0) out.clear();
  return out;
}

namespace {

// The beginnings of their digests, sorted: two places that begin alike by chance are settled though
// they differ, and the comparison says so.
using Places = std::vector<std::uint64_t>;

std::uint64_t beginning_of(const Digest& place) {
  std::uint64_t out = 0;
  for (std::size_t i = 0; i < sizeof out; ++i) out = out << 8 | place.bytes[i];
  return out;
}

Places places_of(const ManifestVolume& v) {
  Places out;
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    if (v.is_placed(id)) out.push_back(beginning_of(v.digests[id]));
  }
  std::sort(out.begin(), out.end());
  return out;
}

Places places_of(RecordedNodes& nodes) {
  Places out;
  for (RecordedNode node; nodes.next(node);) {
    if (node.placed) out.push_back(beginning_of(node.digest));
  }
  std::sort(out.begin(), out.end());
  return out;
}

bool is_written(const std::vector<SectorRange>& runs, std::uint64_t start,
                const SectorSet& written) {
  return std::any_of(runs.begin(), runs.end(), [&](const SectorRange& r) {
    return r.first < FileTree::hole && written.first_overlap({start + r.first, r.count});
  });
}

// `part`: a volume, of either side.
template <typename Part>
std::vector<HashedFile> hash_moved(const Part& part, const Device& disk, const FileTree& tree,
                                   std::vector<FileTree::Id> ids, Progress& progress) {
  if (ids.empty() || part.start >= disk.sectors()) return {};
  std::uint64_t bytes = 0;
  for (const FileTree::Id id : ids) bytes += tree.bytes(id);
  progress.stage(fmt::format("hashing what moves on p{}", part.number), bytes);
  const Window volume(disk, {part.start, std::min(part.sectors, disk.sectors() - part.start)});
  return hash_files(volume, tree, std::move(ids), progress);
}

// The place is on both sides, and of as many names: where two names of one file become two files,
// one of them stays there, and the other one is a copy.
bool is_on_both(const Digest& place, const Places& own, const Places& others) {
  const auto count = [at = beginning_of(place)](const Places& places) {
    const auto [from, to] = std::equal_range(places.begin(), places.end(), at);
    return to - from;
  };
  return count(own) == count(others);
}

// `others`: the places on the other side.
void hash_in(ManifestVolume& v, const Device& disk, const Places& others, const Settling& by) {
  std::vector<FileTree::Id> ids;
  const Places own = places_of(v);
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    if (!v.is_placed(id) || v.tree.link(id) != FileTree::none) continue;
    if (!is_on_both(v.digests[id], own, others) ||
        is_written(content_runs(v.tree, id, disk.sector_size()), v.start, by.written))
      ids.push_back(id);
  }
  for (HashedFile& file : hash_moved(v, disk, v.tree, std::move(ids), by.progress)) {
    v.digests[file.id] = file.digest;
    v.placed[file.id] = false;
    if (!file.unreadable.empty()) v.unreadable[file.id] = std::move(file.unreadable);
  }
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    const FileTree::Id first = v.tree.link(id);
    if (first == FileTree::none || !v.is_placed(id) || v.is_placed(first)) continue;
    v.digests[id] = v.digests[first];
    v.placed[id] = false;
  }
}

// The same of what was recorded. What was put aside has no tree: what moves gets one of its own.
void hash_recorded(Recording& recorded, const RecordedVolume& v, const Device& disk,
                   const Places& others, const Settling& by) {
  FileTree moved;
  std::vector<Digest> places(moved.size());  // by node
  const Places own = places_of(*recorded.nodes(v));
  const auto nodes = recorded.nodes(v);
  for (RecordedNode node; nodes->next(node);) {
    if (!node.placed ||
        (is_on_both(node.digest, own, others) && !is_written(node.runs, v.start, by.written)))
      continue;
    const FileTree::Id id = moved.add(FileTree::root, u"", {}, node.info);
    moved.set_extents(id, node.runs);
    if (node.valid_bytes != node.info.size) moved.set_valid_bytes(id, node.valid_bytes);
    places.push_back(node.digest);
  }
  std::vector<FileTree::Id> ids(moved.size() - 1);
  std::iota(ids.begin(), ids.end(), FileTree::Id{1});
  std::sort(ids.begin(), ids.end(), [&places](auto a, auto b) { return places[a] < places[b]; });
  // Other names of a file are on the same place.
  ids.erase(std::unique(ids.begin(), ids.end(),
                        [&places](auto a, auto b) { return places[a] == places[b]; }),
            ids.end());
  SettledPlaces out;
  for (HashedFile& file : hash_moved(v, disk, moved, std::move(ids), by.progress)) {
    out.places.push_back({places[file.id], file.digest});
    if (!file.unreadable.empty()) out.unreadable[places[file.id]] = std::move(file.unreadable);
  }
  if (out.places.empty()) return;
  std::sort(out.places.begin(), out.places.end(),
            [](const auto& a, const auto& b) { return a.place < b.place; });
  recorded.settle(v.start, std::move(out));
}

void hash_range(ManifestRange& r, const Device& disk, Progress& progress) {
  if (!r.placed) return;
  progress.stage(fmt::format("hashing p{}", r.number), r.sectors * disk.sector_size());
  r.digest = range_digest(disk, {r.start, r.sectors}, progress, r.unreadable);
  r.placed = false;
}

bool is_settled(const ManifestRange& then, const ManifestRange& now, const SectorSet& written) {
  return then.placed && now.placed && then.digest == now.digest &&
         !written.first_overlap({now.start, now.sectors});
}

template <typename Items>
auto* at_start(Items& items, std::uint64_t start) {
  const auto it = std::find_if(items.begin(), items.end(),
                               [start](const auto& item) { return item.start == start; });
  return it == items.end() ? nullptr : &*it;
}

}  // namespace

std::optional<Digest> tree::place_digest(const FileTree& tree, FileTree::Id id, std::uint64_t start,
                                         std::uint32_t sector_size) {
  const std::vector<SectorRange> runs = content_runs(tree, id, sector_size);
  if (runs.empty()) return std::nullopt;
  std::string text = "place\n";
  for (const SectorRange& r : runs)
    text += r.first >= FileTree::hole ? fmt::format("zeros {}\n", r.count)
                                      : fmt::format("{} {}\n", start + r.first, r.count);
  text += fmt::format("bytes {} of {}\n", tree.valid_bytes(id), tree.bytes(id));
  return Sha256::of({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}

Digest tree::range_place(SectorRange range) {
  Sha256 sha;
  sha.add(fmt::format("range {} {}\n", range.first, range.count));
  return sha.finish();
}

void tree::hash_unsettled(Recording& before, const Device& was, Manifest& after, const Device& is,
                          const Settling& by) {
  if (before.proof() != Proof::places) return;  // all of it is hashed
  for (ManifestVolume& b : after.volumes) {
    const auto start = by.expectation.start_before(b.start);
    const RecordedVolume* a = start ? at_start(before.volumes(), *start) : nullptr;
    if (a == nullptr || b.untouched) continue;
    const Places then = places_of(*before.nodes(*a));
    hash_recorded(before, *a, was, places_of(b), by);
    hash_in(b, is, then, by);
  }
  for (ManifestRange& b : after.ranges) {
    const auto start = by.expectation.start_before(b.start);
    const ManifestRange* a = start ? at_start(before.ranges(), *start) : nullptr;
    if (a == nullptr || is_settled(*a, b, by.written)) continue;
    ManifestRange hashed = *a;
    hash_range(hashed, was, by.progress);
    before.settle(hashed);
    hash_range(b, is, by.progress);
  }
}

void tree::hash_unsettled(const Recording& before, Manifest& after, const Device& is,
                          const Settling& by) {
  if (before.proof() != Proof::places) return;
  for (ManifestVolume& b : after.volumes) {
    const auto start = by.expectation.start_before(b.start);
    const auto nodes = start ? before.nodes_at(*start) : nullptr;
    if (nodes != nullptr) hash_in(b, is, places_of(*nodes), by);
  }
  for (ManifestRange& b : after.ranges) {
    const auto start = by.expectation.start_before(b.start);
    const ManifestRange* a = start ? at_start(before.ranges(), *start) : nullptr;
    if (a != nullptr && !is_settled(*a, b, by.written)) hash_range(b, is, by.progress);
  }
}

}  // namespace nuvrat

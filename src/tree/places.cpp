#include "tree/places.h"

#include <algorithm>

#include <fmt/core.h>

namespace nuvrat {

std::vector<SectorRange> content_runs(const FileTree& tree, FileTree::Id id,
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

bool is_written(const ManifestVolume& v, FileTree::Id id, std::uint32_t sector_size,
                const SectorSet& written) {
  const std::vector<SectorRange> runs = content_runs(v.tree, id, sector_size);
  return std::any_of(runs.begin(), runs.end(), [&](const SectorRange& r) {
    return r.first < FileTree::hole && written.first_overlap({v.start + r.first, r.count});
  });
}

// `others`: the places on the other side.
void hash_in(ManifestVolume& v, const Device& disk, const Places& others, const SectorSet& written,
             Progress& progress) {
  std::vector<FileTree::Id> ids;
  std::uint64_t bytes = 0;
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    if (!v.is_placed(id) || v.tree.link(id) != FileTree::none) continue;
    if (std::binary_search(others.begin(), others.end(), beginning_of(v.digests[id])) &&
        !is_written(v, id, disk.sector_size(), written))
      continue;
    ids.push_back(id);
    bytes += v.tree.bytes(id);
  }
  if (ids.empty() || v.start >= disk.sectors()) return;
  progress.stage(fmt::format("hashing what moves on p{}", v.number), bytes);
  const Window volume(disk, {v.start, std::min(v.sectors, disk.sectors() - v.start)});
  for (HashedFile& file : hash_files(volume, v.tree, std::move(ids), progress)) {
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

std::optional<Digest> place_digest(const FileTree& tree, FileTree::Id id, std::uint64_t start,
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

Digest range_place(SectorRange range) {
  Sha256 sha;
  sha.add(fmt::format("range {} {}\n", range.first, range.count));
  return sha.finish();
}

void hash_unsettled(Manifest& before, const Device& was, Manifest& after, const Device& is,
                    const std::vector<ExpectedChange>& changes, const SectorSet& written,
                    Progress& progress) {
  if (before.proof != Proof::places) return;  // all of it is hashed
  for (ManifestVolume& b : after.volumes) {
    const auto start = start_before(changes, b.start);
    ManifestVolume* a = start ? at_start(before.volumes, *start) : nullptr;
    if (a == nullptr || b.untouched) continue;
    const Places then = places_of(*a);
    hash_in(*a, was, places_of(b), written, progress);
    hash_in(b, is, then, written, progress);
  }
  for (ManifestRange& b : after.ranges) {
    const auto start = start_before(changes, b.start);
    ManifestRange* a = start ? at_start(before.ranges, *start) : nullptr;
    if (a == nullptr || is_settled(*a, b, written)) continue;
    hash_range(*a, was, progress);
    hash_range(b, is, progress);
  }
}

void hash_unsettled(const Recording& before, Manifest& after, const Device& is,
                    const std::vector<ExpectedChange>& changes, const SectorSet& written,
                    Progress& progress) {
  if (before.proof() != Proof::places) return;
  for (ManifestVolume& b : after.volumes) {
    const auto start = start_before(changes, b.start);
    const auto nodes = start ? before.nodes_at(*start) : nullptr;
    if (nodes != nullptr) hash_in(b, is, places_of(*nodes), written, progress);
  }
  for (ManifestRange& b : after.ranges) {
    const auto start = start_before(changes, b.start);
    const ManifestRange* a = start ? at_start(before.ranges(), *start) : nullptr;
    if (a != nullptr && !is_settled(*a, b, written)) hash_range(b, is, progress);
  }
}

}  // namespace nuvrat

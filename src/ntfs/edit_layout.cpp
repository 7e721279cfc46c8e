// Where an edit puts everything.

#include "ntfs/edit_layout.h"

#include <algorithm>

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t usual_start = 64;  // records of $MFT in one piece
constexpr std::uint64_t min_start = 16;
constexpr std::uint64_t first_for_mft = 16;  // records that $MFT's own extensions may take

}  // namespace

Layouter::Layouter(const EditParts& found, tree::FreeRuns room)
    : v_(found.volume),
      streams_(found.streams),
      puts_(found.puts),
      scan_(found.scan),
      room_(std::move(room)) {}

std::variant<EditLayout, EditTrouble> Layouter::lay_out(const EditWay& way) {
  if (const MaybeTrouble trouble = attempt(way)) return *trouble;
  out_.used = room_.used();
  out_.free = room_.capacity();
  return std::move(out_);
}

EditTrouble Layouter::no_pieces() const {
  const std::uint64_t used = room_.used();
  const std::uint64_t free = room_.capacity();
  if (used > free) return {.kind = EditTrouble::Kind::room, .needed = used, .free = free};
  return {.kind = EditTrouble::Kind::pieces, .free = free - used};
}

std::optional<EditTrouble> Layouter::attempt(const EditWay& way) {
  out_.record_bits = puts_.bits;
  if (v_.front > 0) {
    for (const Run& r : scan_.boot) out_.taken.add({r.lcn, r.count});
    for (const Run& r : v_.counted_anew(scan_.boot)) out_.given.add({r.lcn, r.count});
  }
  out_.changed = scan_.owners;
  out_.changed.insert(scan_.systems.begin(), scan_.systems.end());
  if (MaybeTrouble trouble = place_mirror()) return trouble;
  if (MaybeTrouble trouble = place_start(way.whole_mft)) return trouble;
  if (MaybeTrouble trouble = place_new_bitmap()) return trouble;
  out_.map.sort();
  place_files();
  move_contents();
  out_.map.sort();
  if (MaybeTrouble trouble = make_room_in_records()) return trouble;
  place_mft(way.whole_mft);
  out_.map.sort();
  place_mft_bitmap(way.list);
  out_.map.sort();
  if (way.list && !all_fit()) {
    // Its own extensions are read while only the beginning of $MFT is known.
    const std::uint64_t known = out_.of_mft.front().count * v_.cluster_bytes / v_.record_bytes;
    if (MaybeTrouble trouble = rebuild(record_mft, {first_for_mft, known})) return trouble;
  }
  place_bitmap(way.whole_bitmap);
  out_.map.sort();
  if (room_.missing() > 0 || !all_fit()) return no_pieces();
  return std::nullopt;
}

void Layouter::note_move(const ClusterMove& move) {
  out_.map.add(move);
  out_.given.add({move.from, move.count});
  out_.taken.add({move.to, move.count});
}

void Layouter::move_contents() {
  out_.moved = 0;
  for (const auto& [number, runs] : scan_.early_in_the_way)
    move_runs(runs, room_.take_in_few(clusters_in(runs)));
  Runs joined;
  for (const Run& r : scan_.in_the_way) add_run(joined, r);
  for (const Run& r : joined) move_runs({r}, room_.take(r.count));
}

// As many clusters in `to` as in `from`.
void Layouter::move_runs(const Runs& from, const Runs& to) {
  auto target = to.begin();
  std::uint64_t used = 0;  // of the target
  for (const Run& r : from) {
    for (std::uint64_t done = 0; done < r.count;) {
      const std::uint64_t count = std::min(r.count - done, target->count - used);
      const ClusterMove move{r.lcn + done, count, target->lcn + used};
      out_.contents.push_back(move);
      note_move(move);
      done += count;
      used += count;
      if (used == target->count) ++target, used = 0;
    }
    out_.moved += r.count;
  }
}

void Layouter::add_shadow(const Runs& runs, Shadow shadow, Shadows& to) {
  const RunMap map(runs);
  std::uint64_t vcn = shadow.vcn;
  for (const Run& target : shadow.to) {
    for (std::uint64_t done = 0; done < target.count;) {
      const Run from = map.at(vcn).value();
      const std::uint64_t count = std::min(from.count, target.count - done);
      note_move({from.lcn, count, target.lcn + done});
      done += count;
      vcn += count;
    }
  }
  to.push_back(std::move(shadow));
}

std::optional<EditTrouble> Layouter::place_mirror() {
  const std::uint64_t count = clusters_in(streams_.mirror.runs);
  const auto place = room_.take_whole(count);
  if (!place) return no_pieces();
  out_.mirror = *place;
  Shadows nowhere;
  add_shadow(streams_.mirror.runs, {0, count, {*place}}, nowhere);
  return std::nullopt;
}

// The first records, which are read before any runlist is known; all of them where that is wanted
// and there is such a piece.
std::optional<EditTrouble> Layouter::place_start(bool whole) {
  const std::uint64_t clusters = v_.volume.mft().clusters();
  std::uint64_t least = min_start;
  const auto [begin, end] = scan_.extensions.equal_range(record_mft);
  for (auto it = begin; it != end; ++it) least = std::max(least, it->second + 1);
  std::optional<Run> start;
  if (whole) start = room_.take_whole(clusters);
  for (const std::uint64_t records : {std::max(usual_start, least), least}) {
    const std::uint64_t n = std::min(v_.units.count, div_up(records, v_.units.records));
    if (!start) start = room_.take_whole(std::min(n * v_.units.clusters, clusters));
  }
  if (!start) return no_pieces();
  out_.mft_lcn = start->lcn;
  add_shadow(streams_.mft.runs, {0, start->count, {*start}}, out_.of_mft);
  return std::nullopt;
}

// Of a volume of another size $Bitmap is another, all of it: a bit a cluster, in units of 8 bytes.
std::optional<EditTrouble> Layouter::place_new_bitmap() {
  if (!v_.resized()) return std::nullopt;
  out_.bitmap = room_.take(div_up(bitmap_bytes(v_.clusters), v_.cluster_bytes));
  if (room_.missing() > 0) return no_pieces();
  for (const Run& r : streams_.bitmap.runs) out_.given.add({r.lcn, r.count});
  for (const Run& r : out_.bitmap) out_.taken.add({r.lcn, r.count});
  return std::nullopt;
}

// Those of the others that change or are in the way, or all.
void Layouter::place_mft(bool whole) {
  const std::uint64_t clusters = v_.volume.mft().clusters();
  const std::uint64_t begun = div_up(out_.of_mft.front().count, v_.units.clusters);
  SectorSet units;
  const auto add_record = [&](std::uint64_t n) { units.add({n / v_.units.records, 1}); };
  for (const std::uint64_t n : out_.changed) add_record(n);
  for (const auto& [n, bytes] : out_.made) add_record(n);
  std::uint64_t vcn = 0;
  for (const Run& r : streams_.mft.runs) {
    SectorRange left{r.lcn, r.count};
    while (const auto hit = v_.vacate.first_overlap(left)) {
      const std::uint64_t first = (vcn + hit->first - r.lcn) / v_.units.clusters;
      const std::uint64_t end = div_up(vcn + hit->end() - r.lcn, v_.units.clusters);
      units.add({first, end - first});
      left = {hit->end(), left.end() - hit->end()};
      if (left.count == 0) break;
    }
    vcn += r.count;
  }
  if (whole) units.add({0, v_.units.count});
  units.remove({0, begun});
  for (const SectorRange& r : units) {
    const std::uint64_t first = r.first * v_.units.clusters;
    const std::uint64_t count = std::min(r.end() * v_.units.clusters, clusters) - first;
    add_shadow(streams_.mft.runs, {first, count, room_.take(count, v_.units.clusters)},
               out_.of_mft);
  }
}

// Where records become used or free, or may: `beginning`.
void Layouter::place_mft_bitmap(bool beginning) {
  if (streams_.mft_bitmap.resident) return;
  SectorSet vcns;
  if (beginning) vcns.add({0, 1});
  for (const auto& [number, used] : out_.record_bits) vcns.add({number / 8 / v_.cluster_bytes, 1});
  std::uint64_t vcn = 0;
  for (const Run& r : streams_.mft_bitmap.runs) {
    for (std::uint64_t i = 0; i < r.count; ++i, ++vcn) {
      if (v_.vacate.contains({r.lcn + i, 1})) vcns.add({vcn, 1});
    }
  }
  for (const SectorRange& r : vcns)
    add_shadow(streams_.mft_bitmap.runs, {r.first, r.count, room_.take(r.count)},
               out_.of_mft_bitmap);
}

// Its own shadows change bits, too: until no cluster of it is left that has to change.
void Layouter::place_bitmap(bool whole) {
  if (v_.resized()) return;  // it has its place
  const std::uint64_t all = clusters_in(streams_.bitmap.runs);
  const std::uint64_t bits = v_.cluster_bytes * 8;
  SectorSet vcns;
  std::uint64_t vcn = 0;
  for (const Run& r : streams_.bitmap.runs) {
    SectorRange left{r.lcn, r.count};
    while (const auto hit = v_.vacate.first_overlap(left)) {
      vcns.add({vcn + hit->first - r.lcn, hit->count});
      left = {hit->end(), left.end() - hit->end()};
      if (left.count == 0) break;
    }
    vcn += r.count;
  }
  if (whole) vcns.add({0, all});
  SectorSet placed;
  while (true) {
    for (const SectorSet* set : {&out_.taken, &out_.given}) {
      for (const SectorRange& r : *set) {
        if (r.first >= v_.clusters) continue;  // missing ones
        const std::uint64_t first = r.first / bits;
        vcns.add({first, std::min(r.last() / bits, all - 1) - first + 1});
      }
    }
    vcns.remove(placed);
    if (vcns.empty()) return;
    for (const SectorRange& r : vcns) {
      add_shadow(streams_.bitmap.runs, {r.first, r.count, room_.take(r.count)}, out_.of_bitmap);
      placed.add(r);
    }
  }
}

}  // namespace nuvrat::ntfs

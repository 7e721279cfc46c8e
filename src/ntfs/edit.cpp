// What an edit finds, and where it puts everything.

#include "ntfs/edit.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/record.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t usual_start = 64;  // records of $MFT in one piece
constexpr std::uint64_t min_start = 16;
constexpr std::uint64_t first_for_mft = 16;  // records that $MFT's own extensions may take

}  // namespace

std::string EditTrouble::text(std::uint64_t cluster_bytes) const {
  switch (kind) {
    case Kind::fixed:
      return fmt::format("cluster {} is bad, or of the boot area, and stays where it is", cluster);
    case Kind::room:
      return fmt::format("what has to move takes {} clusters of {}, {} are free",
                         format_count(needed), format_bytes(cluster_bytes), format_count(free));
    case Kind::pieces:
      return fmt::format(
          "the {} that would be free lie in pieces too small for what must be in one, the "
          "beginning of $MFT, or in few, as the system's files must",
          plural(free, "cluster", "clusters"));
    case Kind::records:
      return fmt::format("a file in many pieces needs {} of $MFT, and {} free",
                         plural(needed, "record more", "records more"),
                         free == 1 ? "1 is" : std::to_string(free) + " are");
    case Kind::new_records:
      return fmt::format("new files and folders need a free record of $MFT each, and {}",
                         free == 0   ? "none is free"
                         : free == 1 ? "1 is free"
                                     : std::to_string(free) + " are free");
  }
  return "";
}

Edit::Edit(const Device& device)
    : device_(device),
      volume_(device),
      cluster_bytes_(volume_.geometry().cluster_bytes()),
      record_bytes_(volume_.geometry().record_bytes),
      boot_clusters_(div_up<std::uint64_t>(8192, cluster_bytes_)),
      packer_(static_cast<std::uint32_t>(record_bytes_), cluster_bytes_),
      clusters_(volume_.geometry().clusters()),
      widest_(volume_.geometry()) {
  units_.clusters = std::max<std::uint64_t>(1, record_bytes_ / cluster_bytes_);
  units_.records = std::max<std::uint64_t>(1, cluster_bytes_ / record_bytes_);
  units_.count = div_up(volume_.mft().clusters(), units_.clusters);
}

void Edit::vacate(Run clusters) {
  vacate_.add({clusters.lcn, clusters.count});
}
void Edit::avoid(Run clusters) {
  avoid_.add({clusters.lcn, clusters.count});
}

void Edit::resize(std::uint64_t clusters) {
  clusters_ = clusters;
  widest_.total_sectors = std::max(widest_.total_sectors, clusters * widest_.cluster_sectors);
  const std::uint64_t now = geometry().clusters();
  if (clusters < now) vacate({clusters, now - clusters});
}
void Edit::extend_front(std::uint64_t clusters) {
  front_ = clusters;
  clusters_ = old_end();
  widest_.total_sectors += clusters * widest_.cluster_sectors;
}
void Edit::relabel(std::u16string label) {
  label_ = std::move(label);
}

Edit::SystemStream* Edit::system_stream_of(std::uint64_t base, const RawAttribute& a) {
  const bool unnamed_data = a.head.type.value() == at_data && a.name.empty();
  if (base == record_mft && unnamed_data) return &mft_;
  if (base == record_mft && a.head.type.value() == at_bitmap) return &mft_bitmap_;
  if (base == record_mirror && unnamed_data) return &mirror_;
  if (base == record_bitmap && unnamed_data) return &bitmap_;
  return nullptr;
}

Runs Edit::counted_anew(Runs runs) const {
  for (Run& r : runs) {
    if (r.lcn != Run::hole) r.lcn += front_;
  }
  return runs;
}

Runs Edit::as_before(Runs runs) const {
  for (Run& r : runs) {
    if (r.lcn != Run::hole) r.lcn -= front_;
  }
  return runs;
}

void Edit::scan_record(std::uint64_t number, ByteView record) {
  const std::uint64_t reference = load<FileRecord>(record).base.value();
  const std::uint64_t base = reference == 0 ? number : record_of(reference);
  if (reference != 0) extensions_.emplace(base, number);
  each_raw_attribute(record, geometry(), [&](const RawAttribute& a) {
    SystemStream* stream = system_stream_of(base, a);
    if (stream != nullptr) stream->records.insert(number);
    const bool bad = base == record_bad && a.name == u"$Bad";
    const bool fixed = base == record_boot || bad;
    if (base == record_boot) boot_.insert(boot_.end(), a.runs.begin(), a.runs.end());
    for (const Run& r : counted_anew(a.runs)) {
      if (r.lcn == Run::hole) continue;
      owned_.add({r.lcn, r.count});
      if (stream != nullptr || is_put(base, a.head.type.value(), a.name)) continue;
      SectorRange left{r.lcn, r.count};
      while (const auto hit = vacate_.first_overlap(left)) {
        // Bad clusters that leave the volume block nothing.
        if (!bad || hit->first < clusters_) {
          if (fixed) fixed_ = fixed_.value_or(hit->first);
          (is_read_early(base) ? early_in_the_way_[base] : in_the_way_)
              .push_back({hit->first, hit->count});
          owners_.insert(number);
        }
        left = {hit->end(), left.end() - hit->end()};
        if (left.count == 0) break;
      }
    }
  });
}

void Edit::scan() {
  volume_.each_record([&](std::uint64_t number, ByteSpan record, Volume::RecordState state) {
    if (state == Volume::RecordState::unreadable)
      throw Error(ErrorCode::device_read, "the device doesn't give a record", {.record = number});
    if (state == Volume::RecordState::sound && is_in_use(record)) scan_record(number, record);
  });
  std::sort(in_the_way_.begin(), in_the_way_.end(),
            [](const Run& a, const Run& b) { return a.lcn < b.lcn; });
}

void Edit::find_system_streams() {
  const auto take = [&](std::uint64_t number, std::uint32_t type, SystemStream& to) {
    const auto all = volume_.attributes(number);
    const AttributeView* a = find_attribute(all, type);
    if (a == nullptr)
      throw Error(ErrorCode::damaged, "a file of the system lacks its contents",
                  {.record = number});
    to.runs = counted_anew(a->runs);
    to.size = a->bytes();
    to.resident = a->resident;
    if (type == at_bitmap) record_use_ = volume_.read_all(*a, volume_.records() / 8 + 4096);
  };
  take(record_mft, at_data, mft_);
  take(record_mft, at_bitmap, mft_bitmap_);
  take(record_mirror, at_data, mirror_);
  take(record_bitmap, at_data, bitmap_);
  if (mirror_.resident || bitmap_.resident)
    throw Error(ErrorCode::damaged, "$MFTMirr or $Bitmap lies in its record");
}

std::optional<EditTrouble> Edit::lay_out() {
  if (owned_.empty()) {
    find_system_streams();
    find_files();
    scan();
  }
  if (no_records_) return no_records_;
  if (fixed_) return EditTrouble{EditTrouble::Kind::fixed, *fixed_, 0, 0};
  SectorSet closed = owned_;
  closed.add(vacate_);
  closed.add(avoid_);
  closed.add({0, boot_clusters_});
  // The old one's boot area counts until the switch.
  closed.add({front_, boot_clusters_});
  room_.emplace(closed.gaps({0, clusters_}), 0, 1, 0, clusters_);
  MaybeTrouble first;
  for (const Way& way : front_ > 0 ? std::vector<Way>{{true, true, false}, {true, true, true}}
                                   : std::vector<Way>{{false, false, false},
                                                      {false, true, false},
                                                      {true, false, false},
                                                      {true, true, false},
                                                      {false, true, true},
                                                      {true, true, true}}) {
    const MaybeTrouble trouble = attempt(way);
    if (!trouble) return std::nullopt;
    if (!first) first = trouble;
  }
  return first;
}

EditTrouble Edit::no_pieces() const {
  const std::uint64_t used = room_->used();
  const std::uint64_t free = room_->capacity();
  if (used > free) return {EditTrouble::Kind::room, 0, used, free};
  return {EditTrouble::Kind::pieces, 0, 0, free - used};
}

std::optional<EditTrouble> Edit::attempt(const Way& way) {
  room_->rewind();
  map_ = {};
  contents_.clear(), of_mft_.clear(), of_bitmap_.clear(), of_mft_bitmap_.clear(), lists_.clear();
  changed_.clear(), made_.clear();
  record_bits_ = put_bits_;
  taken_ = given_ = {};
  if (front_ > 0) {
    for (const Run& r : boot_) taken_.add({r.lcn, r.count});
    for (const Run& r : counted_anew(boot_)) given_.add({r.lcn, r.count});
  }
  changed_ = owners_;
  for (const SystemStream* s : {&mft_, &mft_bitmap_, &mirror_, &bitmap_})
    changed_.insert(s->records.begin(), s->records.end());
  // What must be in one piece is placed while the pieces are large.
  if (MaybeTrouble trouble = place_mirror()) return trouble;
  if (MaybeTrouble trouble = place_start(way.whole_mft)) return trouble;
  if (MaybeTrouble trouble = place_new_bitmap()) return trouble;
  place_files();
  move_contents();
  map_.sort();
  if (MaybeTrouble trouble = make_room_in_records()) return trouble;
  place_mft(way.whole_mft);
  map_.sort();
  place_mft_bitmap(way.list);
  map_.sort();
  if (way.list && !all_fit()) {
    // Its own extensions are read while only the beginning of $MFT is known.
    const std::uint64_t known = of_mft_.front().count * cluster_bytes_ / record_bytes_;
    if (MaybeTrouble trouble = rebuild(record_mft, first_for_mft, known)) return trouble;
  }
  place_bitmap(way.whole_bitmap);
  map_.sort();
  if (room_->missing() > 0 || !all_fit()) return no_pieces();
  return std::nullopt;
}

void Edit::note_move(const ClusterMove& move) {
  map_.add(move);
  given_.add({move.from, move.count});
  taken_.add({move.to, move.count});
}

void Edit::move_contents() {
  moved_ = 0;
  for (const auto& [number, runs] : early_in_the_way_)
    move_runs(runs, room_->take_in_few(clusters_in(runs)));
  Runs joined;
  for (const Run& r : in_the_way_) add_run(joined, r);
  for (const Run& r : joined) move_runs({r}, room_->take(r.count));
}

// As many clusters in `to` as in `from`.
void Edit::move_runs(const Runs& from, const Runs& to) {
  auto target = to.begin();
  std::uint64_t used = 0;  // of the target
  for (const Run& r : from) {
    for (std::uint64_t done = 0; done < r.count;) {
      const std::uint64_t count = std::min(r.count - done, target->count - used);
      const ClusterMove move{r.lcn + done, count, target->lcn + used};
      contents_.push_back(move);
      note_move(move);
      done += count;
      used += count;
      if (used == target->count) ++target, used = 0;
    }
    moved_ += r.count;
  }
}

void Edit::add_shadow(const Runs& runs, Shadow shadow, Shadows& to) {
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

std::optional<EditTrouble> Edit::place_mirror() {
  const std::uint64_t count = clusters_in(mirror_.runs);
  const auto place = room_->take_whole(count);
  if (!place) return no_pieces();
  new_mirror_ = *place;
  mirror_lcn_ = place->lcn;
  Shadows nowhere;
  add_shadow(mirror_.runs, {0, count, {*place}}, nowhere);
  return std::nullopt;
}

// The first records, which are read before any runlist is known; all of them where that is wanted
// and there is such a piece.
std::optional<EditTrouble> Edit::place_start(bool whole) {
  const std::uint64_t clusters = volume_.mft().clusters();
  std::uint64_t least = min_start;
  const auto [begin, end] = extensions_.equal_range(record_mft);
  for (auto it = begin; it != end; ++it) least = std::max(least, it->second + 1);
  std::optional<Run> start;
  if (whole) start = room_->take_whole(clusters);
  for (const std::uint64_t records : {std::max(usual_start, least), least}) {
    const std::uint64_t n = std::min(units_.count, div_up(records, units_.records));
    if (!start) start = room_->take_whole(std::min(n * units_.clusters, clusters));
  }
  if (!start) return no_pieces();
  mft_lcn_ = start->lcn;
  add_shadow(mft_.runs, {0, start->count, {*start}}, of_mft_);
  return std::nullopt;
}

// Of a volume of another size $Bitmap is another, all of it: a bit a cluster, in units of 8 bytes.
std::optional<EditTrouble> Edit::place_new_bitmap() {
  if (!resized()) return std::nullopt;
  new_bitmap_ = room_->take(div_up(bitmap_bytes(clusters_), cluster_bytes_));
  if (room_->missing() > 0) return no_pieces();
  for (const Run& r : bitmap_.runs) given_.add({r.lcn, r.count});
  for (const Run& r : new_bitmap_) taken_.add({r.lcn, r.count});
  return std::nullopt;
}

// Those of the others that change or are in the way, or all.
void Edit::place_mft(bool whole) {
  const std::uint64_t clusters = volume_.mft().clusters();
  const std::uint64_t begun = div_up(of_mft_.front().count, units_.clusters);
  SectorSet units;
  const auto add_record = [&](std::uint64_t n) { units.add({n / units_.records, 1}); };
  for (const std::uint64_t n : changed_) add_record(n);
  for (const auto& [n, bytes] : made_) add_record(n);
  std::uint64_t vcn = 0;
  for (const Run& r : mft_.runs) {
    SectorRange left{r.lcn, r.count};
    while (const auto hit = vacate_.first_overlap(left)) {
      const std::uint64_t first = (vcn + hit->first - r.lcn) / units_.clusters;
      const std::uint64_t end = div_up(vcn + hit->end() - r.lcn, units_.clusters);
      units.add({first, end - first});
      left = {hit->end(), left.end() - hit->end()};
      if (left.count == 0) break;
    }
    vcn += r.count;
  }
  if (whole) units.add({0, units_.count});
  units.remove({0, begun});
  for (const SectorRange& r : units) {
    const std::uint64_t first = r.first * units_.clusters;
    const std::uint64_t count = std::min(r.end() * units_.clusters, clusters) - first;
    add_shadow(mft_.runs, {first, count, room_->take(count, units_.clusters)}, of_mft_);
  }
}

// Where records become used or free, or may: `beginning`.
void Edit::place_mft_bitmap(bool beginning) {
  if (mft_bitmap_.resident) return;
  SectorSet vcns;
  if (beginning) vcns.add({0, 1});
  for (const auto& [number, used] : record_bits_) vcns.add({number / 8 / cluster_bytes_, 1});
  std::uint64_t vcn = 0;
  for (const Run& r : mft_bitmap_.runs) {
    for (std::uint64_t i = 0; i < r.count; ++i, ++vcn) {
      if (vacate_.contains({r.lcn + i, 1})) vcns.add({vcn, 1});
    }
  }
  for (const SectorRange& r : vcns)
    add_shadow(mft_bitmap_.runs, {r.first, r.count, room_->take(r.count)}, of_mft_bitmap_);
}

// Its own shadows change bits, too: until no cluster of it is left that has to change.
void Edit::place_bitmap(bool whole) {
  if (resized()) return;  // it has its place
  const std::uint64_t all = clusters_in(bitmap_.runs);
  const std::uint64_t bits = cluster_bytes_ * 8;
  SectorSet vcns;
  std::uint64_t vcn = 0;
  for (const Run& r : bitmap_.runs) {
    SectorRange left{r.lcn, r.count};
    while (const auto hit = vacate_.first_overlap(left)) {
      vcns.add({vcn + hit->first - r.lcn, hit->count});
      left = {hit->end(), left.end() - hit->end()};
      if (left.count == 0) break;
    }
    vcn += r.count;
  }
  if (whole) vcns.add({0, all});
  SectorSet placed;
  while (true) {
    for (const SectorSet* set : {&taken_, &given_}) {
      for (const SectorRange& r : *set) {
        if (r.first >= clusters_) continue;  // missing ones
        const std::uint64_t first = r.first / bits;
        vcns.add({first, std::min(r.last() / bits, all - 1) - first + 1});
      }
    }
    vcns.remove(placed);
    if (vcns.empty()) return;
    for (const SectorRange& r : vcns) {
      add_shadow(bitmap_.runs, {r.first, r.count, room_->take(r.count)}, of_bitmap_);
      placed.add(r);
    }
  }
}

}  // namespace nuvrat::ntfs

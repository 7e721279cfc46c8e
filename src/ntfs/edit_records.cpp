// Records of an edit: other runs in the old ones, and new ones where these have no room.

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/edit.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t first_spare = first_user_record;

}  // namespace

// Of a volume that begins earlier all records count their clusters anew.
template <typename Visit>
void Edit::each_owner(Visit visit) {
  if (front_ == 0) {
    for (const std::uint64_t number : owners_) visit(number, sound_record(number));
    return;
  }
  volume_.each_record([&](std::uint64_t number, ByteSpan record, Volume::RecordState state) {
    if (state == Volume::RecordState::sound && is_in_use(record)) visit(number, record);
  });
}

// Files whose records can't hold their new runlists get more of them.
std::optional<EditTrouble> Edit::make_room_in_records() {
  std::set<std::uint64_t> bases;
  each_owner([&](std::uint64_t number, ByteView record) {
    if (patched(number, record)) return;
    const std::uint64_t reference = load<FileRecord>(record).base.value();
    bases.insert(reference == 0 ? number : record_of(reference));
  });
  if (resized()) bases.insert({record_bitmap, record_bad});
  if (label_) bases.insert(record_volume_info);
  for (const auto& [number, put] : puts_) bases.insert(number);
  for (const std::uint64_t base : bases) {
    if (base == record_mft) continue;  // its turn comes
    const bool early = is_read_early(base);
    const std::uint64_t end = early ? 0 : volume_.records();
    if (MaybeTrouble trouble = rebuild(base, first_spare, end))
      return early ? no_pieces() : trouble;
  }
  return std::nullopt;
}

std::optional<EditTrouble> Edit::rebuild(std::uint64_t base, std::uint64_t first_free,
                                         std::uint64_t end_free) {
  const auto put = puts_.find(base);
  const bool is_new = put != puts_.end() && put->second.is_new;
  const Bytes record = is_new ? Bytes() : sound_record(base);
  std::vector<Attribute> attributes;
  RecordHead head;
  if (is_new) {
    head = put->second.head;
    attributes = put->second.first;
    put_contents(put->second, attributes);
  } else {
    const auto header = load<FileRecord>(record);
    attributes = moved_attributes(base, record);
    head.number = base;
    head.sequence = header.sequence.value();
    head.flags = header.flags.value();
    head.links = header.links.value();
    head.lsn = header.lsn.value();
  }
  std::vector<std::uint64_t> references;
  const auto [begin, end] = extensions_.equal_range(base);
  for (auto it = begin; it != end; ++it)
    references.push_back(
        file_reference(it->second, load<FileRecord>(sound_record(it->second)).sequence.value()));
  const std::size_t had = references.size();
  Runs list = room_->take(1);
  PackedFile packed;
  if (MaybeTrouble trouble =
          pack_with_room(head, attributes, {first_free, end_free}, references, list, packed))
    return trouble;
  const auto is_made = [&](std::uint64_t number, Bytes bytes) {
    changed_.erase(number);
    made_[number] = std::move(bytes);
  };
  is_made(base, std::move(packed.records[0]));
  for (std::size_t i = 0; i < references.size(); ++i) {
    const std::uint64_t number = record_of(references[i]);
    if (i + 1 < packed.records.size()) {
      is_made(number, std::move(packed.records[i + 1]));
      if (i >= had) record_bits_[number] = true;
      continue;
    }
    is_made(number, unused_record(references[i]));
    record_bits_[number] = false;
  }
  // The old list has no owner now, wherever it would have gone.
  for (const AttributeView& a :
       is_new ? std::vector<AttributeView>() : volume_.attributes(base, record)) {
    if (a.type != at_attribute_list || a.resident) continue;
    for (const Run& r : counted_anew(a.runs)) given_.add({r.lcn, r.count});
    for (const Run& r : runs_after(base, a.runs)) taken_.remove({r.lcn, r.count});
  }
  if (packed.records.size() > 1) {
    for (const Run& r : list) taken_.add({r.lcn, r.count});
    lists_.emplace_back(std::move(list), std::move(packed.list));
  }
  return std::nullopt;
}

// Takes records and clusters of the list until the file fits into them.
std::optional<EditTrouble> Edit::pack_with_room(const RecordHead& head,
                                                const std::vector<Attribute>& attributes,
                                                FreeRecords free,
                                                std::vector<std::uint64_t>& references, Runs& list,
                                                PackedFile& packed) {
  while (true) {
    packed = packer_.pack(head, attributes, list, [&](std::size_t i) {
      return i < references.size() ? references[i] : file_reference(0, 1);
    });
    const std::size_t needed = packed.records.size() - 1;
    const std::uint64_t held = clusters_in(list) * cluster_bytes_;
    if (needed <= references.size() && packed.list.size() <= held) return std::nullopt;
    for (std::size_t i = references.size(); i < needed; ++i) {
      const auto reference = take_record(free.first, free.end);
      if (!reference) return EditTrouble{EditTrouble::Kind::records, 0, needed, references.size()};
      references.push_back(*reference);
    }
    if (packed.list.size() > held) {
      for (const Run& r : room_->take(div_up(packed.list.size() - held, cluster_bytes_)))
        add_run(list, r);
    }
  }
}

// The record as it is once nothing needs it; its next use has another number.
Bytes Edit::unused_record(std::uint64_t reference) const {
  Bytes out = packer_.unused(record_of(reference));
  auto gone = load<FileRecord>(out);
  gone.sequence = static_cast<std::uint16_t>(sequence_of(reference) + 1);
  if (gone.sequence.value() == 0) gone.sequence = std::uint16_t{1};
  store(gone, out);
  return out;
}

std::vector<Attribute> Edit::moved_attributes(std::uint64_t base, ByteView record) const {
  std::vector<Attribute> out;
  for (AttributeView& a : volume_.attributes(base, record)) {
    if (a.type == at_attribute_list) continue;
    Attribute to;
    to.type = a.type;
    to.name = a.name;
    to.resident = a.resident;
    to.indexed = a.type == at_file_name;
    to.value = std::move(a.value);
    to.runs = runs_after(base, a.runs);
    to.allocated = a.allocated;
    to.size = a.size;
    to.initialised = a.initialised;
    to.flags = a.flags;
    to.compression_unit = a.compression_unit;
    to.occupied = a.occupied;
    out.push_back(std::move(to));
  }
  change_attributes(base, out);
  return out;
}

// What the size of the volume, its label and new contents change.
void Edit::change_attributes(std::uint64_t base, std::vector<Attribute>& attributes) const {
  if (base == record_volume_info && label_) {
    std::erase_if(attributes, [](const Attribute& a) { return a.type == at_volume_name; });
    const auto after = std::find_if(attributes.begin(), attributes.end(),
                                    [](const Attribute& a) { return a.type > at_volume_name; });
    Bytes value;
    for (const char16_t c : *label_) {
      value.push_back(static_cast<std::uint8_t>(c));
      value.push_back(static_cast<std::uint8_t>(c >> 8));
    }
    attributes.insert(after, resident(at_volume_name, std::move(value)));
  }
  if (const auto put = puts_.find(base); put != puts_.end()) put_contents(put->second, attributes);
  if (!resized() || (base != record_bitmap && base != record_bad)) return;
  for (Attribute& a : attributes) {
    if (a.type != at_data) continue;
    if (base == record_bitmap && a.name.empty()) {
      a.runs = new_bitmap_;
      a.allocated = clusters_in(new_bitmap_) * cluster_bytes_;
      a.size = a.initialised = bitmap_bytes(clusters_);
    }
    if (base == record_bad && a.name == u"$Bad") {
      // A cluster of the volume is the same one of the list.
      Runs all = a.runs;
      if (front_ > 0) all.insert(all.begin(), {Run::hole, front_});
      Runs runs;
      std::uint64_t vcn = 0;
      for (const Run& r : all) {
        if (vcn < clusters_) add_run(runs, {r.lcn, std::min(r.count, clusters_ - vcn)});
        vcn += r.count;
      }
      if (vcn < clusters_) add_run(runs, {Run::hole, clusters_ - vcn});
      a.runs = std::move(runs);
      if (a.initialised == a.size) a.initialised = clusters_ * cluster_bytes_;
      a.allocated = a.size = clusters_ * cluster_bytes_;
    }
  }
}

std::optional<std::uint64_t> Edit::take_record(std::uint64_t from, std::uint64_t end) {
  const std::uint64_t bits = std::min<std::uint64_t>(record_use_.size() * 8, volume_.records());
  for (std::uint64_t n = from; n < std::min(end, bits); ++n) {
    if ((record_use_[n / 8] >> n % 8 & 1) != 0 || record_bits_.count(n) != 0) continue;
    Bytes record;
    const auto state = volume_.read_record(n, record);
    if (state == Volume::RecordState::sound && is_in_use(record)) continue;
    std::uint16_t sequence = 1;
    if (state == Volume::RecordState::sound)
      sequence = std::max<std::uint16_t>(1, load<FileRecord>(record).sequence.value());
    record_bits_[n] = true;
    return file_reference(n, sequence);
  }
  return std::nullopt;
}

Bytes Edit::sound_record(std::uint64_t number) const {
  Bytes out;
  if (volume_.read_record(number, out) != Volume::RecordState::sound)
    throw Error(ErrorCode::damaged, "the record is damaged, or isn't there", {.record = number});
  return out;
}

// $Boot is where a volume begins.
Runs Edit::runs_after(std::uint64_t base, const Runs& runs) const {
  return base == record_boot ? runs : map_.relocated(counted_anew(runs));
}

std::optional<Bytes> Edit::patched(std::uint64_t number, ByteView record) const {
  const std::uint64_t reference = load<FileRecord>(record).base.value();
  const std::uint64_t base = reference == 0 ? number : record_of(reference);
  return with_runs(record, widest_, [&](const RawAttribute& a) -> std::optional<Runs> {
    Runs now = runs_after(base, a.runs);
    if (now == a.runs) return std::nullopt;
    return now;
  });
}

bool Edit::all_fit() const {
  return std::all_of(changed_.begin(), changed_.end(), [this](std::uint64_t number) {
    return patched(number, sound_record(number)).has_value();
  });
}

}  // namespace nuvrat::ntfs

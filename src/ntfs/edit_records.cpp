// Records of an edit: other runs in the old ones, and new ones where these have no room.

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/edit_layout.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t first_spare = first_user_record;

}  // namespace

// Of a volume that begins earlier all records count their clusters anew.
template <typename Visit>
void Layouter::each_owner(Visit visit) {
  if (v_.front == 0) {
    for (const std::uint64_t number : scan_.owners) visit(number, v_.sound_record(number));
    return;
  }
  v_.volume.each_record([&](std::uint64_t number, ByteSpan record, Volume::RecordState state) {
    if (state == Volume::RecordState::sound && is_in_use(record)) visit(number, record);
  });
}

// Files whose records can't hold their new runlists get more of them.
std::optional<EditTrouble> Layouter::make_room_in_records() {
  std::set<std::uint64_t> bases;
  each_owner([&](std::uint64_t number, ByteView record) {
    if (patched(v_, out_.map, number, record)) return;
    const std::uint64_t reference = load<FileRecord>(record).base.value();
    bases.insert(reference == 0 ? number : record_of(reference));
  });
  if (v_.resized()) bases.insert({record_bitmap, record_bad});
  if (v_.request.label) bases.insert(record_volume_info);
  for (const auto& [number, put] : puts_.records) bases.insert(number);
  for (const std::uint64_t base : bases) {
    if (base == record_mft) continue;  // its turn comes
    const bool early = is_read_early(base);
    const std::uint64_t end = early ? 0 : v_.volume.records();
    if (std::optional<EditTrouble> trouble = rebuild(base, {first_spare, end}))
      return early ? no_pieces() : trouble;
  }
  return std::nullopt;
}

std::optional<EditTrouble> Layouter::rebuild(std::uint64_t base, FreeRecords free) {
  const auto put = puts_.records.find(base);
  const bool is_new = put != puts_.records.end() && put->second.is_new;
  const Bytes record = is_new ? Bytes() : v_.sound_record(base);
  std::vector<Attribute> attributes;
  RecordHead head;
  if (is_new) {
    head = put->second.head;
    attributes = put->second.first;
    put_contents(put->second, out_.puts.at(base), attributes);
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
  const auto [begin, end] = scan_.extensions.equal_range(base);
  for (auto it = begin; it != end; ++it)
    references.push_back(
        file_reference(it->second, load<FileRecord>(v_.sound_record(it->second)).sequence.value()));
  const std::size_t had = references.size();
  auto tried = pack_with_room(head, attributes, free, std::move(references));
  if (const auto* trouble = std::get_if<EditTrouble>(&tried)) return *trouble;
  Packing& packed = std::get<Packing>(tried);
  note_made(packed, base, had);
  // The old list has no owner now, wherever it would have gone.
  for (const AttributeView& a :
       is_new ? std::vector<AttributeView>() : v_.volume.attributes(base, record)) {
    if (a.type != at_attribute_list || a.resident) continue;
    for (const Run& r : v_.counted_anew(a.runs)) out_.given.add({r.lcn, r.count});
    for (const Run& r : runs_after(base, a.runs)) out_.taken.remove({r.lcn, r.count});
  }
  if (packed.file.records.size() > 1) {
    for (const Run& r : packed.list) out_.taken.add({r.lcn, r.count});
    out_.lists.emplace_back(std::move(packed.list), std::move(packed.file.list));
  }
  return std::nullopt;
}

// `had`: extensions that it had before.
void Layouter::note_made(const Packing& packed, std::uint64_t base, std::size_t had) {
  const auto is_made = [&](std::uint64_t number, Bytes bytes) {
    out_.changed.erase(number);
    out_.made[number] = std::move(bytes);
  };
  is_made(base, packed.file.records[0]);
  for (std::size_t i = 0; i < packed.references.size(); ++i) {
    const std::uint64_t number = record_of(packed.references[i]);
    if (i + 1 < packed.file.records.size()) {
      is_made(number, packed.file.records[i + 1]);
      if (i >= had) out_.record_bits[number] = true;
      continue;
    }
    is_made(number, unused_record(packed.references[i]));
    out_.record_bits[number] = false;
  }
}

// Takes records and clusters of the list until the file fits into them.
std::variant<Layouter::Packing, EditTrouble> Layouter::pack_with_room(
    const RecordHead& head, const std::vector<Attribute>& attributes, FreeRecords free,
    std::vector<std::uint64_t> references) {
  Packing out{{}, std::move(references), room_.take(1)};
  while (true) {
    out.file = v_.packer.pack(head, attributes, out.list, [&out](std::size_t i) {
      return i < out.references.size() ? out.references[i] : file_reference(0, 1);
    });
    const std::size_t needed = out.file.records.size() - 1;
    const std::uint64_t held = clusters_in(out.list) * v_.cluster_bytes;
    if (needed <= out.references.size() && out.file.list.size() <= held) return out;
    for (std::size_t i = out.references.size(); i < needed; ++i) {
      const auto reference = free_record(v_, streams_, out_.record_bits, free);
      if (!reference)
        return EditTrouble{
            .kind = EditTrouble::Kind::records, .needed = needed, .free = out.references.size()};
      out_.record_bits[record_of(*reference)] = true;
      out.references.push_back(*reference);
    }
    if (out.file.list.size() > held) {
      for (const Run& r : room_.take(div_up(out.file.list.size() - held, v_.cluster_bytes)))
        add_run(out.list, r);
    }
  }
}

// The record as it is once nothing needs it; its next use has another number.
Bytes Layouter::unused_record(std::uint64_t reference) const {
  Bytes out = v_.packer.unused(record_of(reference));
  auto gone = load<FileRecord>(out);
  gone.sequence = static_cast<std::uint16_t>(sequence_of(reference) + 1);
  if (gone.sequence.value() == 0) gone.sequence = std::uint16_t{1};
  store(gone, out);
  return out;
}

std::vector<Attribute> Layouter::moved_attributes(std::uint64_t base, ByteView record) const {
  std::vector<Attribute> out;
  for (AttributeView& a : v_.volume.attributes(base, record)) {
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
void Layouter::change_attributes(std::uint64_t base, std::vector<Attribute>& attributes) const {
  if (base == record_volume_info && v_.request.label) {
    std::erase_if(attributes, [](const Attribute& a) { return a.type == at_volume_name; });
    const auto after = std::find_if(attributes.begin(), attributes.end(),
                                    [](const Attribute& a) { return a.type > at_volume_name; });
    Bytes value;
    for (const char16_t c : *v_.request.label) {
      value.push_back(static_cast<std::uint8_t>(c));
      value.push_back(static_cast<std::uint8_t>(c >> 8));
    }
    attributes.insert(after, resident(at_volume_name, std::move(value)));
  }
  if (const auto put = puts_.records.find(base); put != puts_.records.end())
    put_contents(put->second, out_.puts.at(base), attributes);
  if (!v_.resized() || (base != record_bitmap && base != record_bad)) return;
  for (Attribute& a : attributes) {
    if (a.type != at_data) continue;
    if (base == record_bitmap && a.name.empty()) {
      a.runs = out_.bitmap;
      a.allocated = clusters_in(out_.bitmap) * v_.cluster_bytes;
      a.size = a.initialised = bitmap_bytes(v_.clusters);
    }
    if (base == record_bad && a.name == u"$Bad") {
      // A cluster of the volume is the same one of the list.
      Runs all = a.runs;
      if (v_.front > 0) all.insert(all.begin(), {Run::hole, v_.front});
      Runs runs;
      std::uint64_t vcn = 0;
      for (const Run& r : all) {
        if (vcn < v_.clusters) add_run(runs, {r.lcn, std::min(r.count, v_.clusters - vcn)});
        vcn += r.count;
      }
      if (vcn < v_.clusters) add_run(runs, {Run::hole, v_.clusters - vcn});
      a.runs = std::move(runs);
      if (a.initialised == a.size) a.initialised = v_.clusters * v_.cluster_bytes;
      a.allocated = a.size = v_.clusters * v_.cluster_bytes;
    }
  }
}

bool Layouter::all_fit() const {
  return std::all_of(out_.changed.begin(), out_.changed.end(), [this](std::uint64_t number) {
    return patched(v_, out_.map, number, v_.sound_record(number)).has_value();
  });
}

// $Boot is where a volume begins.
Runs Layouter::runs_after(std::uint64_t base, const Runs& runs) const {
  return base == record_boot ? runs : out_.map.relocated(v_.counted_anew(runs));
}

}  // namespace nuvrat::ntfs

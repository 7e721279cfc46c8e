#include "ntfs/attribute.h"

#include <algorithm>
#include <tuple>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/fixup.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::size_t resident_head = sizeof(AttributeHeader) + sizeof(ResidentHeader);
constexpr std::size_t non_resident_head = sizeof(AttributeHeader) + sizeof(NonResidentHeader);
constexpr std::size_t end_bytes = 8;  // the end mark and its padding

// The part of a non-resident attribute that one record holds.
struct Segment {
  std::size_t first_run = 0;
  std::uint64_t vcn = 0;
  Bytes pairs;
  std::uint64_t clusters = 0;
  std::size_t end_run = 0;
};

// As many runs as fit into `room` bytes of mapping pairs, the end mark included.
Segment take_runs(const Attribute& a, std::size_t first, std::uint64_t vcn, std::size_t room) {
  Segment out;
  out.first_run = first;
  out.vcn = vcn;
  out.end_run = first;
  std::uint64_t previous = 0;
  while (out.end_run < a.runs.size()) {
    Bytes pair;
    std::uint64_t next = previous;
    encode_run(a.runs[out.end_run], next, pair);
    if (out.pairs.size() + pair.size() + 1 > room) break;
    out.pairs.insert(out.pairs.end(), pair.begin(), pair.end());
    previous = next;
    out.clusters += a.runs[out.end_run++].count;
  }
  out.pairs.push_back(0);
  return out;
}

void put_name(ByteSpan out, std::size_t at, std::u16string_view name) {
  for (const char16_t unit : name) {
    out[at++] = static_cast<std::uint8_t>(unit);
    out[at++] = static_cast<std::uint8_t>(unit >> 8);
  }
}

// Sparse and packed ones have a field more, in their first part.
std::size_t fixed_head(const Attribute& a, std::uint64_t vcn) {
  if (a.resident) return resident_head;
  return non_resident_head + (a.occupied && vcn == 0 ? sizeof(be::little_uint64_buf_t) : 0);
}

std::size_t head_size(const Attribute& a, std::uint64_t vcn = 0) {
  return align8(fixed_head(a, vcn) + 2 * a.name.size());
}

// Header and name of an attribute that has `size` bytes in all.
void write_head(const Attribute& a, std::uint64_t vcn, std::size_t size, std::uint16_t instance,
                ByteSpan out) {
  const std::size_t name_at = fixed_head(a, vcn);
  AttributeHeader header{};
  header.type = a.type;
  header.length = static_cast<std::uint32_t>(size);
  header.non_resident = a.resident ? 0 : 1;
  header.name_length = static_cast<std::uint8_t>(a.name.size());
  header.name_offset = static_cast<std::uint16_t>(name_at);
  header.flags = a.flags;
  header.instance = instance;
  store(header, out);
  put_name(out, name_at, a.name);
}

// `out` must be zero and hold it; returns the bytes that it took.
std::size_t write_resident(const Attribute& a, std::uint16_t instance, ByteSpan out) {
  const std::size_t at = head_size(a);
  const std::size_t size = align8(at + a.value.size());
  write_head(a, 0, size, instance, out);
  ResidentHeader header{};
  header.value_length = static_cast<std::uint32_t>(a.value.size());
  header.value_offset = static_cast<std::uint16_t>(at);
  header.indexed = a.indexed ? 1 : 0;
  store(header, out, sizeof(AttributeHeader));
  std::copy(a.value.begin(), a.value.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
  return size;
}

std::size_t write_segment(const Attribute& a, const Segment& s, std::uint16_t instance,
                          ByteSpan out) {
  const std::size_t at = head_size(a, s.vcn);
  const std::size_t size = align8(at + s.pairs.size());
  write_head(a, s.vcn, size, instance, out);
  NonResidentHeader header{};
  header.lowest_vcn = s.vcn;
  header.highest_vcn = s.vcn + s.clusters - 1;
  header.runs_offset = static_cast<std::uint16_t>(at);
  if (s.vcn == 0) {
    header.allocated_size = a.allocated;
    header.data_size = a.size;
    header.initialised_size = a.initialised;
    header.compression_unit = a.compression_unit;
  }
  store(header, out, sizeof(AttributeHeader));
  if (a.occupied && s.vcn == 0) {
    be::little_uint64_buf_t occupied;
    occupied = *a.occupied;
    store(occupied, out, non_resident_head);
  }
  std::copy(s.pairs.begin(), s.pairs.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
  return size;
}

Bytes resident_bytes(const Attribute& a, std::uint16_t instance) {
  Bytes out(a.bytes());
  write_resident(a, instance, out);
  return out;
}

Bytes segment_bytes(const Attribute& a, const Segment& s, std::uint16_t instance) {
  Bytes out(align8(head_size(a, s.vcn) + s.pairs.size()));
  write_segment(a, s, instance, out);
  return out;
}

}  // namespace

ExtensionReferences new_extensions(std::uint64_t first) {
  return [first](std::size_t i) { return file_reference(first + i, 1); };
}

std::size_t Attribute::bytes() const {
  return align8(head_size(*this) + (resident ? value.size() : encoded_bytes(runs)));
}

// One record being filled. Attributes are kept apart until the end: they are sorted then.
struct OpenRecord {
  struct Item {
    std::uint32_t type;
    std::u16string name;
    Bytes bytes;
  };
  std::vector<Item> items;
  std::size_t used = 0;
  std::uint16_t next_instance = 0;
};

// A file that needs more than one record.
class FilePacking {
 public:
  FilePacking(const RecordPacker& packer, const RecordHead& head,
              const ExtensionReferences& extensions)
      : packer_(packer), head_(head), extensions_(extensions), open_(1) {}

  PackedFile run(const std::vector<Attribute>& attributes, const Runs& list_runs) {
    // The list itself is in the base record; its contents are known at the end.
    Attribute list = non_resident(at_attribute_list, list_runs, 0, packer_.cluster_bytes_);
    const std::size_t list_bytes = list.bytes();
    open_[0].used = list_bytes;
    open_[0].next_instance = 1;
    // Small ones first, so that the base record keeps what every reader looks for.
    for (const Attribute& a : attributes) {
      if (a.resident) put_resident(a);
    }
    std::vector<const Attribute*> rest;
    for (const Attribute& a : attributes) {
      if (!a.resident) rest.push_back(&a);
    }
    std::stable_sort(rest.begin(), rest.end(), [](const Attribute* a, const Attribute* b) {
      return a->runs.size() < b->runs.size();
    });
    for (std::size_t i = 0; i < rest.size(); ++i) {
      const bool last = i + 1 == rest.size();
      put_segments(*rest[i], last);
    }
    std::stable_sort(entries_.begin(), entries_.end(), [](const Entry& a, const Entry& b) {
      return std::tie(a.type, a.name, a.vcn) < std::tie(b.type, b.name, b.vcn);
    });
    PackedFile out;
    out.list = list_contents();
    list.size = list.initialised = out.list.size();
    const Segment all = take_runs(list, 0, 0, list_bytes);
    open_[0].items.push_back({at_attribute_list, {}, segment_bytes(list, all, 0)});
    for (std::size_t i = 0; i < open_.size(); ++i) out.records.push_back(close(i));
    return out;
  }

 private:
  struct Entry {
    std::uint32_t type;
    std::u16string name;
    std::uint64_t vcn;
    std::size_t record;
    std::uint16_t instance;
  };

  [[nodiscard]] std::size_t room(std::size_t record) const {
    return packer_.capacity() - open_[record].used;
  }

  void put(std::size_t record, const Attribute& a, std::uint64_t vcn, Bytes bytes) {
    OpenRecord& r = open_[record];
    entries_.push_back({a.type, a.name, vcn, record, r.next_instance++});
    r.used += bytes.size();
    r.items.push_back({a.type, a.name, std::move(bytes)});
  }

  void put_resident(const Attribute& a) {
    // The base record keeps room for the beginning of the longest runlist.
    const std::size_t size = a.bytes();
    constexpr std::size_t kept = non_resident_head + 40;
    if (room(0) >= size + (a.type == at_standard_information ? 0 : kept)) {
      put(0, a, 0, resident_bytes(a, open_[0].next_instance));
      return;
    }
    if (open_.size() == 1 || room(open_.size() - 1) < size) open_.emplace_back();
    const std::size_t at = open_.size() - 1;
    put(at, a, 0, resident_bytes(a, open_[at].next_instance));
  }

  void put_segments(const Attribute& a, bool may_fill_base) {
    std::size_t run = 0;
    std::uint64_t vcn = 0;
    bool base = may_fill_base || room(0) >= a.bytes() + non_resident_head + 40;
    while (run < a.runs.size()) {
      std::size_t record = base ? 0 : open_.size() - 1;
      base = false;
      Segment s;
      const std::size_t head = head_size(a, vcn);
      if (room(record) > head + 24 && (record > 0 || run == 0))
        s = take_runs(a, run, vcn, room(record) - head);
      if (s.end_run <= run) {
        open_.emplace_back();
        record = open_.size() - 1;
        s = take_runs(a, run, vcn, room(record) - head);
      }
      put(record, a, vcn, segment_bytes(a, s, open_[record].next_instance));
      run = s.end_run;
      vcn += s.clusters;
    }
  }

  [[nodiscard]] std::uint64_t reference_of(std::size_t record) const {
    return record == 0 ? file_reference(head_.number, head_.sequence) : extensions_(record - 1);
  }

  [[nodiscard]] Bytes list_contents() const {
    Bytes out;
    for (const Entry& e : entries_) {
      const std::size_t at = out.size();
      out.resize(at + align8(sizeof(AttributeListEntry) + 2 * e.name.size()));
      AttributeListEntry entry{};
      entry.type = e.type;
      entry.length = static_cast<std::uint16_t>(out.size() - at);
      entry.name_length = static_cast<std::uint8_t>(e.name.size());
      entry.name_offset = sizeof(AttributeListEntry);
      entry.lowest_vcn = e.vcn;
      entry.reference = reference_of(e.record);
      entry.instance = e.instance;
      store(entry, out, at);
      put_name(out, at + sizeof(AttributeListEntry), e.name);
    }
    return out;
  }

  Bytes close(std::size_t index) {
    OpenRecord& r = open_[index];
    std::stable_sort(r.items.begin(), r.items.end(), [](const auto& a, const auto& b) {
      return std::tie(a.type, a.name) < std::tie(b.type, b.name);
    });
    const std::uint64_t reference = reference_of(index);
    Bytes out = packer_.unused(record_of(reference));
    std::size_t at = packer_.first_attribute();
    for (const auto& item : r.items) {
      std::copy(item.bytes.begin(), item.bytes.end(),
                out.begin() + static_cast<std::ptrdiff_t>(at));
      at += item.bytes.size();
    }
    RecordHead head = head_;
    if (index > 0) {
      head.sequence = sequence_of(reference);
      head.links = 0;
      head.flags = record_in_use;
    }
    RecordPacker::end_record(out, at, head, r.next_instance);
    if (index > 0) {
      auto header = load<FileRecord>(out);
      header.base = file_reference(head_.number, head_.sequence);
      store(header, out);
    }
    return out;
  }

  friend class RecordPacker;
  const RecordPacker& packer_;
  RecordHead head_;
  const ExtensionReferences& extensions_;
  std::vector<OpenRecord> open_;
  std::vector<Entry> entries_;
};

std::size_t RecordPacker::first_attribute() const {
  return align8(sizeof(FileRecord) + 2 * (record_bytes_ / stride + 1));
}

std::size_t RecordPacker::capacity() const {
  return record_bytes_ - first_attribute() - end_bytes;
}

bool RecordPacker::fits(const std::vector<Attribute>& attributes) const {
  std::size_t used = 0;
  for (const Attribute& a : attributes) used += a.bytes();
  return used <= capacity();
}

PackedFile RecordPacker::pack(const RecordHead& head, const std::vector<Attribute>& attributes,
                              const Runs& list_runs, const ExtensionReferences& extensions) const {
  if (!fits(attributes)) return FilePacking(*this, head, extensions).run(attributes, list_runs);
  Bytes record = unused(head.number);
  std::size_t at = first_attribute();
  std::uint16_t instance = 0;
  for (const Attribute& a : attributes) {
    const ByteSpan room = ByteSpan(record).subspan(at);
    store(be::little_uint32_buf_t{}, room);  // the end mark that stood there
    at += a.resident ? write_resident(a, instance, room)
                     : write_segment(a, take_runs(a, 0, 0, capacity()), instance, room);
    ++instance;
  }
  end_record(record, at, head, instance);
  PackedFile out;
  out.records.push_back(std::move(record));
  return out;
}

// The end mark after the last attribute, and what the header says of a base record.
void RecordPacker::end_record(Bytes& record, std::size_t at, const RecordHead& head,
                              std::uint16_t next_instance) {
  be::little_uint32_buf_t end;
  end = at_end;
  store(end, record, at);
  store(be::little_uint32_buf_t{}, record, at + 4);
  auto header = load<FileRecord>(record);
  header.lsn = head.lsn;
  header.sequence = head.sequence;
  header.links = head.links;
  header.flags = head.flags;
  header.next_attribute_id = next_instance;
  header.bytes_in_use = static_cast<std::uint32_t>(at + end_bytes);
  store(header, record);
}

Bytes RecordPacker::unused(std::uint64_t number) const {
  Bytes out(record_bytes_);
  FileRecord header{};
  header.multi.signature = {'F', 'I', 'L', 'E'};
  header.multi.usa_offset = static_cast<std::uint16_t>(sizeof(FileRecord));
  header.multi.usa_count = static_cast<std::uint16_t>(record_bytes_ / stride + 1);
  header.sequence = number > 0 && number < 16 ? static_cast<std::uint16_t>(number) : 1;
  header.first_attribute = static_cast<std::uint16_t>(first_attribute());
  header.bytes_in_use = static_cast<std::uint32_t>(first_attribute() + end_bytes);
  header.bytes_allocated = record_bytes_;
  header.number = static_cast<std::uint32_t>(number);
  store(header, out);
  be::little_uint32_buf_t end;
  end = at_end;
  store(end, out, first_attribute());
  return out;
}

void RecordPacker::seal(Bytes& record) {
  protect(record, 1);
}

Bytes standard_information(const FileStamp& stamp, std::uint32_t security_id) {
  StandardInformation s{};
  s.created = stamp.created;
  s.modified = stamp.modified;
  s.changed = stamp.modified;
  s.accessed = stamp.accessed;
  s.attributes = stamp.attributes & ~(file_name_directory | file_name_view_index);
  s.security_id = security_id;
  const ByteView bytes = base::bytes_of(s);
  return {bytes.begin(), bytes.end()};
}

Bytes file_name(std::uint64_t parent, const FileStamp& stamp, FileSizes sizes,
                std::u16string_view name, std::uint8_t space) {
  FileNameHead head{};
  head.parent = parent;
  head.created = stamp.created;
  head.modified = stamp.modified;
  head.changed = stamp.modified;
  head.accessed = stamp.accessed;
  head.allocated_size = sizes.allocated;
  head.data_size = sizes.size;
  head.attributes = stamp.attributes;
  head.name_length = static_cast<std::uint8_t>(name.size());
  head.name_space = space;
  Bytes out(sizeof head + 2 * name.size());
  store(head, out);
  put_name(out, sizeof head, name);
  return out;
}

Attribute resident(std::uint32_t type, Bytes value, std::u16string name) {
  Attribute out;
  out.type = type;
  out.name = std::move(name);
  out.value = std::move(value);
  out.indexed = type == at_file_name;
  return out;
}

Attribute non_resident(std::uint32_t type, const Runs& runs, std::uint64_t size,
                       std::uint64_t cluster_bytes, std::u16string name) {
  Attribute out;
  out.type = type;
  out.name = std::move(name);
  out.resident = false;
  out.runs = runs;
  out.allocated = clusters_in(runs) * cluster_bytes;
  out.size = out.initialised = size;
  return out;
}

}  // namespace nuvrat::ntfs

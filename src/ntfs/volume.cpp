#include "ntfs/volume.h"

#include <algorithm>
#include <map>
#include <tuple>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>

#include "base/record.h"
#include "device/volume_fits.h"
#include "ntfs/fixup.h"
#include "ntfs/lznt1.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t max_list_bytes = 8u << 20;  // ATTRIBUTE_LIST; others stop at 256 KiB

Error damaged(std::uint64_t record, const std::string& text) {
  return {ErrorCode::damaged, text, {.record = record}};
}

Geometry geometry_of(const Device& device) {
  std::string fault;
  const auto geometry = parse_boot(device.read(0), fault);
  if (!geometry) {
    throw Error(ErrorCode::damaged, "the NTFS boot sector makes no sense: " + fault, {.sector = 0});
  }
  device::require_volume_fits(device, geometry->sector_bytes, geometry->total_sectors);
  return *geometry;
}

}  // namespace

// One attribute as one record holds it.
struct Volume::Segment {
  AttributeView view;
  std::uint16_t instance = 0;
  std::uint64_t vcn = 0;
};

std::u16string utf16_from(ByteView bytes) {
  std::u16string out;
  for (std::size_t i = 0; i + 1 < bytes.size(); i += 2)
    out.push_back(static_cast<char16_t>(bytes[i] | bytes[i + 1] << 8));
  return out;
}

const AttributeView* find_attribute(const std::vector<AttributeView>& all, std::uint32_t type,
                                    std::u16string_view name) {
  const auto it = std::find_if(all.begin(), all.end(), [&](const AttributeView& a) {
    return a.type == type && a.name == name;
  });
  return it == all.end() ? nullptr : &*it;
}

std::uint64_t clusters_named(const NonResidentHeader& header, const Geometry& geometry) {
  const std::uint64_t first = header.lowest_vcn.value();
  const std::uint64_t end = header.highest_vcn.value() + 1;  // 0 of an empty one
  return end > first ? std::min(end - first, geometry.max_in_a_file()) : 0;
}

Volume::Volume(const Device& device) : device_(device), geometry_(geometry_of(device)) {
  // $MFT says where $MFT lies: its first record is found through the boot sector alone, the next
  // ones through what that one says, and so the rest.
  const std::uint64_t first =
      div_up<std::uint64_t>(geometry_.record_bytes, geometry_.cluster_bytes());
  if (first > geometry_.clusters() - geometry_.mft_lcn)
    throw Error(ErrorCode::damaged, "$MFT would begin at the volume's very end");
  mft_ = RunMap({{geometry_.mft_lcn, first}});
  records_ = 1;
  look_for_stand_in(0);
  Bytes record;
  if (read_record(0, record) != RecordState::sound) {
    throw Error(ErrorCode::damaged, "the first record of $MFT is damaged",
                {.sector = geometry_.mft_lcn * cluster_sectors(), .record = 0});
  }
  for (const Segment& s : segments(0, record)) {
    if (s.view.type == at_data && s.view.name.empty() && s.vcn == 0 && !s.view.resident) {
      mft_ = RunMap(s.view.runs);
      records_ = std::min(s.view.size, mft_.clusters() * geometry_.cluster_bytes()) /
                 geometry_.record_bytes;
    }
  }
  const auto all = attributes(0, record);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr || data->resident || data->runs.empty() ||
      data->runs.front().lcn != geometry_.mft_lcn) {
    throw Error(ErrorCode::damaged, "the first record of $MFT doesn't say where $MFT is",
                {.sector = geometry_.mft_lcn * cluster_sectors(), .record = 0});
  }
  mft_ = RunMap(data->runs);
  records_ =
      std::min(data->size, mft_.clusters() * geometry_.cluster_bytes()) / geometry_.record_bytes;
  for (std::uint64_t number = 1; number < std::min(mirrored, records_); ++number)
    look_for_stand_in(number);
}

void Volume::read_bytes(std::uint64_t offset, ByteSpan out) const {
  const std::uint64_t sector = device_.sector_size();
  if (offset % sector == 0 && out.size() % sector == 0) {
    device_.read(offset / sector, out);
    return;
  }
  const std::uint64_t first = offset / sector;
  const Bytes whole = device_.read(first, div_up(offset % sector + out.size(), sector));
  std::copy_n(whole.begin() + static_cast<std::ptrdiff_t>(offset % sector), out.size(),
              out.begin());
}

void Volume::read(const RunMap& runs, std::uint64_t offset, ByteSpan out) const {
  const std::uint64_t cluster = geometry_.cluster_bytes();
  while (!out.empty()) {
    const std::uint64_t within = offset % cluster;
    const auto run = runs.at(offset / cluster);
    const std::uint64_t n =
        run ? std::min<std::uint64_t>(out.size(), run->count * cluster - within) : out.size();
    const ByteSpan part = out.first(n);
    if (run && run->lcn != Run::hole) {
      read_bytes(run->lcn * cluster + within, part);
    } else {
      std::fill(part.begin(), part.end(), std::uint8_t{0});
    }
    offset += n;
    out = out.subspan(n);
  }
}

bool Volume::try_read(const RunMap& runs, std::uint64_t offset, ByteSpan out) const {
  try {
    read(runs, offset, out);
    return true;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    std::fill(out.begin(), out.end(), std::uint8_t{0});
    return false;
  }
}

void Volume::read(const AttributeView& a, std::uint64_t offset, ByteSpan out) const {
  std::fill(out.begin(), out.end(), std::uint8_t{0});
  const std::uint64_t end = a.resident ? a.value.size() : std::min(a.size, a.initialised);
  if (offset >= end) return;
  const ByteSpan part = out.first(std::min<std::uint64_t>(out.size(), end - offset));
  if (a.resident) {
    std::copy_n(a.value.begin() + static_cast<std::ptrdiff_t>(offset), part.size(), part.begin());
  } else {
    read(RunMap(a.runs), offset, part);
  }
}

Bytes Volume::read_all(const AttributeView& a, std::uint64_t limit) const {
  if (a.bytes() > limit) {
    throw Error(ErrorCode::damaged,
                fmt::format("an attribute of type {:X} would have {} bytes", a.type, a.bytes()));
  }
  Bytes out(a.bytes());
  read(a, 0, out);
  return out;
}

Volume::RecordState Volume::unprotect_record(ByteSpan record) const {
  constexpr std::string_view mark = "FILE";
  if (!std::equal(mark.begin(), mark.end(), record.begin(),
                  [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }))
    return RecordState::not_a_record;
  return unprotect(record) ? RecordState::sound : RecordState::torn;
}

Volume::RecordState Volume::read_record(std::uint64_t number, Bytes& out) const {
  if (number >= records_) return RecordState::not_a_record;
  if (const auto it = stand_ins_.find(number); it != stand_ins_.end()) {
    out = it->second;
    return RecordState::sound;
  }
  out.resize(geometry_.record_bytes);
  read(mft_, number * geometry_.record_bytes, out);
  return unprotect_record(out);
}

void Volume::each_record(
    const std::function<void(std::uint64_t, ByteSpan, RecordState)>& visit) const {
  const std::uint64_t per_piece = std::min(piece_bytes / geometry_.record_bytes, records_);
  Bytes piece(per_piece * geometry_.record_bytes);
  for (std::uint64_t first = 0; first < records_;) {
    if (const std::uint64_t empty = records_in_hole(first); empty > 0) {
      first += empty;
      continue;
    }
    const std::uint64_t count = std::min(per_piece, records_ - first);
    const ByteSpan all = ByteSpan(piece).first(count * geometry_.record_bytes);
    const bool given = try_read(mft_, first * geometry_.record_bytes, all);
    for (std::uint64_t i = 0; i < count; ++i) {
      const ByteSpan record = all.subspan(i * geometry_.record_bytes, geometry_.record_bytes);
      const bool read_it = given || try_read(mft_, (first + i) * geometry_.record_bytes, record);
      if (const auto it = stand_ins_.find(first + i); it != stand_ins_.end()) {
        std::copy(it->second.begin(), it->second.end(), record.begin());
        visit(first + i, record, RecordState::sound);
        continue;
      }
      visit(first + i, record, read_it ? unprotect_record(record) : RecordState::unreadable);
    }
    first += count;
  }
}

std::uint64_t Volume::records_in_hole(std::uint64_t first) const {
  const std::uint64_t cluster = geometry_.cluster_bytes();
  const std::uint64_t at = first * geometry_.record_bytes;
  const auto run = mft_.at(at / cluster);
  if (!run) return 0;
  std::uint64_t bytes = run->count * cluster - at % cluster;
  if (run->lcn != Run::hole) {
    const std::uint64_t lba = (run->lcn * cluster + at % cluster) / device_.sector_size();
    bytes = std::min(bytes, (device_.next_data(lba) - lba) * device_.sector_size());
  }
  return std::min(bytes / geometry_.record_bytes, records_ - first);
}

void Volume::read_runs(ByteView body, std::size_t header_end, Segment& s) const {
  const auto n = load<NonResidentHeader>(body, sizeof(AttributeHeader));
  s.vcn = n.lowest_vcn.value();
  s.view.allocated = n.allocated_size.value();
  s.view.size = n.data_size.value();
  s.view.initialised = n.initialised_size.value();
  s.view.compression_unit = n.compression_unit;
  constexpr std::size_t occupied_at = sizeof(AttributeHeader) + sizeof(NonResidentHeader);
  if ((s.view.flags & (attribute_sparse | attribute_compressed)) != 0 && s.vcn == 0 &&
      header_end >= occupied_at + 8)
    s.view.occupied = load<be::little_uint64_buf_t>(body, occupied_at).value();
  decode_runs(body.subspan(n.runs_offset.value()), geometry_.clusters(),
              clusters_named(n, geometry_), s.view.runs);
}

std::vector<Volume::Segment> Volume::segments(std::uint64_t number, ByteView record) const {
  const auto header = load<FileRecord>(record);
  const std::uint64_t used = header.bytes_in_use.value();
  if (used > record.size())
    throw damaged(number, fmt::format("the record says that it uses {} bytes", used));
  std::vector<Segment> out;
  std::uint64_t at = header.first_attribute.value();
  while (true) {
    if (at % 8 != 0 || at + 4 > used)
      throw damaged(number, fmt::format("an attribute would begin at byte {}", at));
    if (load<be::little_uint32_buf_t>(record, at).value() == at_end) return out;
    const auto head = load<AttributeHeader>(record.first(used), at);
    const std::uint64_t length = head.length.value();
    if (length < sizeof(AttributeHeader) + sizeof(ResidentHeader) || length % 8 != 0 ||
        length > used - at)
      throw damaged(number, fmt::format("the attribute at byte {} has {} bytes", at, length));
    const auto wrong = [&](const char* what) {
      return damaged(number, fmt::format("the {} of the attribute at byte {} leaves it", what, at));
    };
    const ByteView body = record.subspan(at, length);
    Segment s;
    s.view.type = head.type.value();
    s.view.flags = head.flags.value();
    s.view.resident = head.non_resident == 0;
    s.view.record = number;
    s.instance = head.instance.value();
    const std::size_t name_at = head.name_offset.value();
    const std::size_t name_bytes = std::size_t{head.name_length} * 2;
    if (name_bytes > 0 && (name_at > length || name_bytes > length - name_at)) throw wrong("name");
    if (name_bytes > 0) s.view.name = utf16_from(body.subspan(name_at, name_bytes));
    if (s.view.resident) {
      const auto r = load<ResidentHeader>(body, sizeof(AttributeHeader));
      const std::size_t value_at = r.value_offset.value();
      const std::size_t size = r.value_length.value();
      if (value_at > length || size > length - value_at) throw wrong("value");
      const ByteView value = body.subspan(value_at, size);
      s.view.value.assign(value.begin(), value.end());
    } else {
      const std::size_t runs_at =
          load<NonResidentHeader>(body, sizeof(AttributeHeader)).runs_offset.value();
      if (runs_at > length) throw wrong("runlist");
      try {
        read_runs(body, name_bytes > 0 ? std::min(runs_at, name_at) : runs_at, s);
      } catch (const Error& e) {
        throw damaged(number, e.message());
      }
    }
    out.push_back(std::move(s));
    at += length;
  }
}

// Each entry is followed before the next is looked at, and a record is named no more often than it
// can hold attributes: a list that many files share, or that repeats itself, ends at once.
void Volume::read_extensions(std::uint64_t number, const AttributeView& list,
                             std::vector<Segment>& all) const {
  constexpr std::uint64_t page = 4096;
  const std::uint64_t size = list.bytes();
  if (size > max_list_bytes)
    throw damaged(number, fmt::format("the attribute list would have {} bytes", size));
  const std::uint64_t max_named = geometry_.record_bytes / sizeof(AttributeHeader);
  std::map<std::uint64_t, std::uint64_t> named;
  Bytes extension;
  Bytes piece;
  std::uint64_t piece_at = 0;
  for (std::uint64_t at = 0; at + sizeof(AttributeListEntry) <= size;) {
    if (at < piece_at || at + sizeof(AttributeListEntry) > piece_at + piece.size()) {
      piece_at = at;
      piece.resize(std::min(page, size - at));
      read(list, piece_at, piece);
    }
    const auto entry = load<AttributeListEntry>(piece, at - piece_at);
    const std::uint64_t other = record_of(entry.reference.value());
    const std::uint64_t times = ++named[other];
    if (entry.length.value() < sizeof(AttributeListEntry) || times > max_named)
      throw damaged(number, "the attribute list is damaged");
    at += entry.length.value();
    if (other == number || times > 1) continue;
    if (read_record(other, extension) != RecordState::sound ||
        record_of(load<FileRecord>(extension).base.value()) != number) {
      throw damaged(number, fmt::format("its extension, record {}, is not there", other));
    }
    for (Segment& s : segments(other, extension)) all.push_back(std::move(s));
  }
}

std::vector<AttributeView> Volume::attributes(std::uint64_t number, ByteView record) const {
  std::vector<Segment> all = segments(number, record);
  const auto list = std::find_if(all.begin(), all.end(),
                                 [](const Segment& s) { return s.view.type == at_attribute_list; });
  if (list != all.end()) {
    const AttributeView view = list->view;
    read_extensions(number, view, all);
    std::stable_sort(all.begin(), all.end(), [](const Segment& a, const Segment& b) {
      return std::tie(a.view.type, a.view.name, a.vcn) < std::tie(b.view.type, b.view.name, b.vcn);
    });
  }
  std::vector<AttributeView> out;
  std::uint64_t next_vcn = 0;
  for (Segment& s : all) {
    const bool more = !s.view.resident && s.vcn > 0;
    if (!more) {
      next_vcn = s.view.resident ? 0 : clusters_in(s.view.runs);
      out.push_back(std::move(s.view));
      continue;
    }
    if (out.empty() || out.back().type != s.view.type || out.back().name != s.view.name ||
        s.vcn != next_vcn) {
      throw damaged(number, fmt::format("a runlist has no beginning: a part of attribute {:X} "
                                        "begins at cluster {}",
                                        s.view.type, s.vcn));
    }
    next_vcn += clusters_in(s.view.runs);
    if (next_vcn > geometry_.max_in_a_file())
      throw damaged(number, "a runlist is longer than any file can be");
    if (next_vcn > geometry_.clusters() * 16 && geometry_.clusters() > 0 &&
        (out.back().flags & (attribute_sparse | attribute_compressed)) == 0)
      throw damaged(number, "a runlist is longer than the volume");
    out.back().runs.insert(out.back().runs.end(), s.view.runs.begin(), s.view.runs.end());
  }
  return out;
}

std::vector<AttributeView> Volume::attributes_if_readable(std::uint64_t number) const {
  try {
    Bytes record;
    if (read_record(number, record) == RecordState::sound) return attributes(number, record);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
  }
  return {};
}

std::vector<AttributeView> Volume::attributes(std::uint64_t number) const {
  Bytes record;
  if (read_record(number, record) != RecordState::sound)
    throw damaged(number, "the record is damaged, or isn't there");
  return attributes(number, record);
}

void Volume::stream(const AttributeView& a, ByteSink sink) const {
  if (!a.resident && (a.flags & attribute_compressed) != 0 && a.compression_unit != 0) {
    stream_compressed(a, sink);
    return;
  }
  if (a.resident) {
    sink(a.value);
    return;
  }
  const RunMap map(a.runs);
  if (a.size > map.clusters() * geometry_.cluster_bytes())
    throw Error(ErrorCode::damaged, "the stream has fewer clusters than its size says");
  Bytes piece(std::min(piece_bytes, a.size));
  const std::uint64_t valid = std::min(a.size, a.initialised);
  for (std::uint64_t at = 0; at < a.size;) {
    const ByteSpan part = ByteSpan(piece).first(std::min(piece_bytes, a.size - at));
    const std::uint64_t real = at < valid ? std::min<std::uint64_t>(part.size(), valid - at) : 0;
    read(map, at, part.first(real));
    std::fill(part.begin() + static_cast<std::ptrdiff_t>(real), part.end(), std::uint8_t{0});
    sink(part);
    at += part.size();
  }
}

void Volume::stream_own(const AttributeView& a, ByteSink sink) const {
  if (a.bytes() > geometry_.clusters() * geometry_.cluster_bytes()) {
    throw Error(ErrorCode::damaged,
                fmt::format("a file of the system says that it has {} bytes, more than the volume",
                            a.bytes()));
  }
  stream(a, sink);
}

// Unit by unit: whole ones are stored as they are, those with holes at their end are packed, those
// that are nothing but holes are zeros.
void Volume::stream_compressed(const AttributeView& a, ByteSink sink) const {
  if (a.compression_unit > max_compression_unit)
    throw Error(ErrorCode::damaged,
                fmt::format("a compression unit of 2^{} clusters", a.compression_unit));
  const std::uint64_t cluster = geometry_.cluster_bytes();
  const std::uint64_t unit = std::uint64_t{1} << a.compression_unit;
  const RunMap map(a.runs);
  if (a.size > map.clusters() * cluster)
    throw Error(ErrorCode::damaged, "the packed file has fewer clusters than its size says");
  Bytes out(unit * cluster);
  const std::uint64_t valid = std::min(a.size, a.initialised);
  for (std::uint64_t at = 0; at < a.size; at += out.size()) {
    std::uint64_t there = 0;
    while (there < unit) {
      const auto run = map.at(at / cluster + there);
      if (!run || run->lcn == Run::hole) break;
      there = std::min(unit, there + run->count);
    }
    std::fill(out.begin(), out.end(), std::uint8_t{0});
    if (at < valid && there == unit) {
      read(map, at, out);
    } else if (at < valid && there > 0) {
      Bytes packed(there * cluster);
      read(map, at, packed);
      if (!unpack_lznt1(packed, out)) {
        throw Error(ErrorCode::damaged,
                    fmt::format("the compressed unit at offset {} is damaged", at));
      }
    }
    if (at < valid && valid - at < out.size())
      std::fill(out.begin() + static_cast<std::ptrdiff_t>(valid - at), out.end(), std::uint8_t{0});
    sink(ByteView(out).first(std::min<std::uint64_t>(out.size(), a.size - at)));
  }
}

}  // namespace nuvrat::ntfs

#include "ntfs/raw_record.h"

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/volume.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::size_t list_end = 8;  // the end mark and its padding

Error damaged_record(ByteView record, const char* what) {
  return {ErrorCode::damaged, what, {.record = load<FileRecord>(record).number.value()}};
}

}  // namespace

void each_raw_attribute(ByteView record, const Geometry& geometry,
                        const std::function<void(const RawAttribute&)>& visit) {
  const auto header = load<FileRecord>(record);
  const std::size_t used = header.bytes_in_use.value();
  if (used > record.size()) throw damaged_record(record, "the record is longer than itself");
  std::size_t at = header.first_attribute.value();
  while (true) {
    if (at % 8 != 0 || at > used || used - at < 4)
      throw damaged_record(record, "the record's attributes have no end");
    if (load<be::little_uint32_buf_t>(record, at).value() == at_end) return;
    RawAttribute out;
    out.at = at;
    out.head = load<AttributeHeader>(record.first(used), at);
    const std::size_t length = out.head.length.value();
    if (length < sizeof(AttributeHeader) + sizeof(ResidentHeader) || length % 8 != 0 ||
        length > used - at)
      throw damaged_record(record, "an attribute of the record leaves it");
    const ByteView body = record.subspan(at, length);
    const std::size_t name_at = out.head.name_offset.value();
    const std::size_t name_bytes = std::size_t{out.head.name_length} * 2;
    if (name_bytes > 0) {
      if (name_at > length || name_bytes > length - name_at)
        throw damaged_record(record, "an attribute's name leaves it");
      out.name = utf16_from(body.subspan(name_at, name_bytes));
    }
    if (out.head.non_resident != 0) {
      const auto n = load<NonResidentHeader>(body, sizeof(AttributeHeader));
      const std::size_t runs_at = n.runs_offset.value();
      if (runs_at > length) throw damaged_record(record, "an attribute's runlist leaves it");
      out.vcn = n.lowest_vcn.value();
      out.size = out.vcn == 0 ? n.data_size.value() : 0;
      decode_runs(body.subspan(runs_at), geometry.clusters(), clusters_named(n, geometry),
                  out.runs);
    }
    visit(out);
    at += length;
  }
}

std::optional<Bytes> with_runs(
    ByteView record, const Geometry& geometry,
    const std::function<std::optional<Runs>(const RawAttribute&)>& change) {
  auto header = load<FileRecord>(record);
  const std::size_t first = header.first_attribute.value();
  Bytes out(record.begin(), record.begin() + static_cast<std::ptrdiff_t>(first));
  each_raw_attribute(record, geometry, [&](const RawAttribute& a) {
    const ByteView body = record.subspan(a.at, a.head.length.value());
    const auto runs = a.head.non_resident != 0 ? change(a) : std::nullopt;
    if (!runs) {
      out.insert(out.end(), body.begin(), body.end());
      return;
    }
    const auto n = load<NonResidentHeader>(body, sizeof(AttributeHeader));
    const std::size_t runs_at = n.runs_offset.value();
    Bytes changed(body.begin(), body.begin() + static_cast<std::ptrdiff_t>(runs_at));
    std::uint64_t previous = 0;
    for (const Run& run : *runs) encode_run(run, previous, changed);
    changed.resize(align8(changed.size() + 1));  // the end is a zero byte
    AttributeHeader head = a.head;
    head.length = static_cast<std::uint32_t>(changed.size());
    store(head, changed);
    out.insert(out.end(), changed.begin(), changed.end());
  });
  if (out.size() + list_end > record.size()) return std::nullopt;
  const std::size_t end = out.size();
  out.resize(record.size());
  be::little_uint32_buf_t mark;
  mark = at_end;
  store(mark, out, end);
  header.bytes_in_use = static_cast<std::uint32_t>(end + list_end);
  store(header, out);
  return out;
}

}  // namespace nuvrat::ntfs

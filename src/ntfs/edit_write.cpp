// The shadows of an edit, as they are written.

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/edit_parts.h"
#include "ntfs/fixup.h"
#include "ntfs/snapshots.h"

namespace nuvrat::ntfs {
namespace {

// Sets or clears the bits of a piece of a bitmap that lie in the set.
void set_bits(ByteSpan piece, std::uint64_t first_bit, const SectorSet& set, bool value) {
  SectorRange left{first_bit, piece.size() * 8};
  while (const auto hit = set.first_overlap(left)) {
    for (std::uint64_t bit = hit->first; bit < hit->end(); ++bit) {
      std::uint8_t& byte = piece[(bit - first_bit) / 8];
      const unsigned mask = 1u << bit % 8;
      byte = static_cast<std::uint8_t>(value ? byte | mask : byte & ~mask);
    }
    left = {hit->end(), left.end() - hit->end()};
    if (left.count == 0) return;
  }
}

class ShadowWriter {
 public:
  explicit ShadowWriter(const EditParts& parts)
      : parts_(parts), v_(parts.volume), layout_(parts.layout) {}
  void write(const EditOutput& out) const;

 private:
  [[nodiscard]] Bytes final_record(std::uint64_t number, ByteView raw) const;
  void write_boot_area(const EditOutput& out) const;
  void write_contents(const EditOutput& out) const;
  void write_mft(const EditOutput& out) const;
  void write_mirror(const EditOutput& out) const;
  void write_bitmap(const EditOutput& out) const;
  void write_new_bitmap(const EditOutput& out) const;
  void read_old_bits(const RunMap& bitmap, std::uint64_t first, ByteSpan out) const;
  void write_mft_bitmap(const EditOutput& out) const;
  void put(const EditOutput& out, const Runs& to, ByteView data) const;

  const EditParts& parts_;
  const EditVolume& v_;
  const EditLayout& layout_;
};

void ShadowWriter::put(const EditOutput& out, const Runs& to, ByteView data) const {
  for (const Run& r : to) {
    if (data.empty()) return;
    const ByteView part =
        data.first(std::min<std::size_t>(data.size(), r.count * v_.cluster_bytes));
    out.write(r.lcn * v_.volume.cluster_sectors(), part);
    data = data.subspan(part.size());
  }
}

void ShadowWriter::write(const EditOutput& out) const {
  if (v_.front > 0) write_boot_area(out);
  write_contents(out);
  out.announce("shadows of NTFS records");
  write_mft(out);
  write_mirror(out);
  out.announce("shadows of NTFS bitmaps");
  write_mft_bitmap(out);
  v_.resized() ? write_new_bitmap(out) : write_bitmap(out);
}

void ShadowWriter::write_boot_area(const EditOutput& out) const {
  out.announce("NTFS boot area");
  Bytes area = v_.device.read(1, v_.boot_clusters * v_.volume.cluster_sectors() - 1);
  end_snapshots(area, 1, v_.device.sector_size());
  out.write(1, area);
}

void ShadowWriter::write_contents(const EditOutput& out) const {
  out.announce("contents that make way");
  const std::uint64_t spc = v_.volume.cluster_sectors();
  const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / v_.cluster_bytes);
  for (const ClusterMove& m : layout_.contents) {
    for (std::uint64_t at = 0; at < m.count; at += step) {
      Bytes piece(std::min(step, m.count - at) * v_.cluster_bytes);
      v_.device.read_once((m.from - v_.front + at) * spc, piece);
      out.write((m.to + at) * spc, piece);
    }
  }
  for (const auto& [runs, list] : layout_.lists) {
    Bytes padded = list;
    padded.resize(clusters_in(runs) * v_.cluster_bytes);
    put(out, runs, padded);
  }
  if (layout_.puts.empty()) return;
  out.announce("contents of files, and indexes of folders");
  for (const auto& [number, place] : layout_.puts) {
    const Put& what = parts_.puts.records.at(number);
    Bytes padded = what.folder ? place.blocks : v_.request.files[what.file].contents;
    padded.resize(clusters_in(place.runs) * v_.cluster_bytes);
    put(out, place.runs, padded);
  }
}

// `raw`: the record as it is on the disk.
Bytes ShadowWriter::final_record(std::uint64_t number, ByteView raw) const {
  Bytes out(raw.begin(), raw.end());
  const auto made = layout_.made.find(number);
  const bool is_made = made != layout_.made.end();
  if (v_.front > 0 && !is_made) {
    Bytes record = out;
    if (!unprotect(record) || !is_in_use(record)) return out;  // nothing leads there
  } else if (!is_made && layout_.changed.count(number) == 0) {
    return out;
  }
  // The next update sequence number, so that a torn write of it would show.
  std::uint16_t next = 1;
  const auto header = load<FileRecord>(raw);
  const std::size_t usa = header.multi.usa_offset.value();
  if (header.multi.signature == std::array<char, 4>{'F', 'I', 'L', 'E'} && usa + 2 <= raw.size()) {
    next = static_cast<std::uint16_t>(load<be::little_uint16_buf_t>(raw, usa).value() + 1);
    if (next == 0 || next == 0xFFFF) next = 1;
  }
  if (is_made) {
    out = made->second;
  } else {
    if (!unprotect(out)) throw Error(ErrorCode::damaged, "the record was torn", {.record = number});
    std::optional<Bytes> with = patched(v_, layout_.map, number, out);
    if (!with) throw Error(ErrorCode::guard, "a record has outgrown its plan", {.record = number});
    out = std::move(*with);
  }
  if (parts_.streams.mft_bitmap.resident && parts_.scan.of_mft_bitmap.count(number) != 0 &&
      !layout_.record_bits.empty()) {
    each_raw_attribute(out, v_.widest, [&](const RawAttribute& a) {
      if (a.head.type.value() != at_bitmap || a.head.non_resident != 0) return;
      const auto head = load<ResidentHeader>(out, a.at + sizeof(AttributeHeader));
      const ByteSpan value =
          ByteSpan(out).subspan(a.at + head.value_offset.value(), head.value_length.value());
      for (const auto& [n, used] : layout_.record_bits) {
        if (n / 8 >= value.size()) continue;
        const unsigned mask = 1u << n % 8;
        value[n / 8] = static_cast<std::uint8_t>(used ? value[n / 8] | mask : value[n / 8] & ~mask);
      }
    });
  }
  protect(out, next);
  return out;
}

void ShadowWriter::write_mft(const EditOutput& out) const {
  for (const Shadow& s : layout_.of_mft) {
    // Whole units at a time, through the runs that they go to.
    const std::uint64_t step =
        std::max<std::uint64_t>(1, piece_bytes / (v_.units.clusters * v_.cluster_bytes)) *
        v_.units.clusters;
    Runs left = s.to;
    for (std::uint64_t at = 0; at < s.count; at += step) {
      const std::uint64_t count = std::min(step, s.count - at);
      Bytes piece(count * v_.cluster_bytes);
      v_.volume.read(v_.volume.mft(), (s.vcn + at) * v_.cluster_bytes, piece);
      const std::uint64_t first = (s.vcn + at) * v_.cluster_bytes / v_.record_bytes;
      for (std::uint64_t i = 0; (i + 1) * v_.record_bytes <= piece.size(); ++i) {
        const ByteSpan record = ByteSpan(piece).subspan(i * v_.record_bytes, v_.record_bytes);
        const Bytes now = final_record(first + i, record);
        std::copy(now.begin(), now.end(), record.begin());
      }
      Runs here;
      for (std::uint64_t wanted = count; wanted > 0;) {
        Run& r = left.front();
        const std::uint64_t n = std::min(wanted, r.count);
        here.push_back({r.lcn, n});
        r.lcn += n;
        r.count -= n;
        if (r.count == 0) left.erase(left.begin());
        wanted -= n;
      }
      put(out, here, piece);
    }
  }
}

void ShadowWriter::write_mirror(const EditOutput& out) const {
  Bytes all(layout_.mirror.count * v_.cluster_bytes);
  const std::uint64_t records = std::min<std::uint64_t>(
      std::min<std::uint64_t>(parts_.streams.mirror.size, all.size()) / v_.record_bytes,
      v_.volume.records());
  for (std::uint64_t n = 0; n < records; ++n) {
    Bytes raw(v_.record_bytes);
    v_.volume.read(v_.volume.mft(), n * v_.record_bytes, raw);
    const Bytes now = final_record(n, raw);
    std::copy(now.begin(), now.end(),
              all.begin() + static_cast<std::ptrdiff_t>(n * v_.record_bytes));
  }
  put(out, {layout_.mirror}, all);
}

void ShadowWriter::write_mft_bitmap(const EditOutput& out) const {
  SectorSet used, unused;
  for (const auto& [n, in_use] : layout_.record_bits) (in_use ? used : unused).add({n, 1});
  const RunMap map(v_.as_before(parts_.streams.mft_bitmap.runs));
  for (const Shadow& s : layout_.of_mft_bitmap) {
    Bytes piece(s.count * v_.cluster_bytes);
    v_.volume.read(map, s.vcn * v_.cluster_bytes, piece);
    set_bits(piece, s.vcn * v_.cluster_bytes * 8, used, true);
    set_bits(piece, s.vcn * v_.cluster_bytes * 8, unused, false);
    put(out, s.to, piece);
  }
}

void ShadowWriter::write_new_bitmap(const EditOutput& out) const {
  const RunMap map(v_.as_before(parts_.streams.bitmap.runs));
  const std::uint64_t size = bitmap_bytes(v_.clusters);
  const std::uint64_t common = std::min(v_.clusters, v_.old_end());
  // What follows the last cluster's bit counts as used.
  const SectorSet added{{common, size * 8 - common}};
  const SectorSet beyond{{v_.clusters, size * 8 - v_.clusters}};
  const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / v_.cluster_bytes);
  std::uint64_t vcn = 0;
  for (const Run& to : layout_.bitmap) {
    for (std::uint64_t at = 0; at < to.count; at += step) {
      const std::uint64_t count = std::min(step, to.count - at);
      Bytes piece(count * v_.cluster_bytes);
      const std::uint64_t first = vcn * v_.cluster_bytes;
      read_old_bits(map, first, piece);
      set_bits(piece, first * 8, added, false);
      set_bits(piece, first * 8, layout_.given, false);
      set_bits(piece, first * 8, layout_.taken, true);
      set_bits(piece, first * 8, beyond, true);
      put(out, {{to.lcn + at, count}}, piece);
      vcn += count;
    }
  }
}

// The old bitmap's bits at the places that their clusters have now; zeros in front of the first and
// after the last. `first`: the byte of the new one that `out` begins with.
void ShadowWriter::read_old_bits(const RunMap& bitmap, std::uint64_t first, ByteSpan out) const {
  const std::uint64_t size = std::min(clusters_in(parts_.streams.bitmap.runs) * v_.cluster_bytes,
                                      div_up<std::uint64_t>(v_.geometry().clusters(), 8));
  const std::uint64_t whole = v_.front / 8;
  const unsigned part = v_.front % 8;
  // One byte more in front: its last bits are the first ones here.
  const std::uint64_t from = first > whole ? first - whole - 1 : 0;
  const std::uint64_t end =
      std::min(size, first + out.size() - std::min(first + out.size(), whole));
  if (from >= end) return;
  Bytes old(end - from);
  v_.volume.read(bitmap, from, old);
  const auto byte_at = [&](std::uint64_t shifted) -> unsigned {  // shifted: its place and `whole`
    if (shifted < whole + from || shifted - whole >= end) return 0;
    return old[shifted - whole - from];
  };
  for (std::size_t i = 0; i < out.size(); ++i) {
    const unsigned in_front = first + i == 0 ? 0 : byte_at(first + i - 1);
    out[i] = static_cast<std::uint8_t>(byte_at(first + i) << part | in_front >> (8 - part));
  }
}

void ShadowWriter::write_bitmap(const EditOutput& out) const {
  const RunMap map(parts_.streams.bitmap.runs);
  for (const Shadow& s : layout_.of_bitmap) {
    std::uint64_t vcn = s.vcn;
    for (const Run& to : s.to) {
      const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / v_.cluster_bytes);
      for (std::uint64_t at = 0; at < to.count; at += step) {
        const std::uint64_t count = std::min(step, to.count - at);
        Bytes piece(count * v_.cluster_bytes);
        v_.volume.read(map, vcn * v_.cluster_bytes, piece);
        set_bits(piece, vcn * v_.cluster_bytes * 8, layout_.given, false);
        set_bits(piece, vcn * v_.cluster_bytes * 8, layout_.taken, true);
        put(out, {{to.lcn + at, count}}, piece);
        vcn += count;
      }
    }
  }
}

}  // namespace

void write_edit(const EditParts& parts, const EditOutput& out) {
  ShadowWriter(parts).write(out);
}

}  // namespace nuvrat::ntfs

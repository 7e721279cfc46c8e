// The shadows of an edit, as they are written.

#include <algorithm>

#include <nuvrat/error.h>

#include "base/record.h"
#include "ntfs/edit.h"
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

}  // namespace

void Edit::put(const EditOutput& out, const Runs& to, ByteView data) const {
  for (const Run& r : to) {
    if (data.empty()) return;
    const ByteView part = data.first(std::min<std::size_t>(data.size(), r.count * cluster_bytes_));
    out.write(r.lcn * volume_.cluster_sectors(), part);
    data = data.subspan(part.size());
  }
}

void Edit::write(const EditOutput& out) const {
  if (front_ > 0) write_boot_area(out);
  write_contents(out);
  out.announce("shadows of NTFS records");
  write_mft(out);
  write_mirror(out);
  out.announce("shadows of NTFS bitmaps");
  write_mft_bitmap(out);
  resized() ? write_new_bitmap(out) : write_bitmap(out);
}

void Edit::write_boot_area(const EditOutput& out) const {
  out.announce("NTFS boot area");
  Bytes area = device_.read(1, boot_clusters_ * volume_.cluster_sectors() - 1);
  end_snapshots(area, 1, device_.sector_size());
  out.write(1, area);
}

void Edit::write_contents(const EditOutput& out) const {
  out.announce("contents that make way");
  const std::uint64_t spc = volume_.cluster_sectors();
  const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / cluster_bytes_);
  for (const ClusterMove& m : contents_) {
    for (std::uint64_t at = 0; at < m.count; at += step) {
      Bytes piece(std::min(step, m.count - at) * cluster_bytes_);
      device_.read_once((m.from - front_ + at) * spc, piece);
      out.write((m.to + at) * spc, piece);
    }
  }
  for (const auto& [runs, list] : lists_) {
    Bytes padded = list;
    padded.resize(clusters_in(runs) * cluster_bytes_);
    put(out, runs, padded);
  }
  if (puts_.empty()) return;
  out.announce("contents of files, and indexes of folders");
  for (const auto& [number, file] : puts_) {
    const Bytes& contents = file.folder ? file.blocks : files_[file.file].first.contents;
    Bytes padded = contents;
    padded.resize(clusters_in(file.runs) * cluster_bytes_);
    put(out, file.runs, padded);
  }
}

// `raw`: the record as it is on the disk.
Bytes Edit::final_record(std::uint64_t number, ByteView raw) const {
  Bytes out(raw.begin(), raw.end());
  const auto made = made_.find(number);
  const bool is_made = made != made_.end();
  if (front_ > 0 && !is_made) {
    Bytes record = out;
    if (!unprotect(record) || !is_in_use(record)) return out;  // nothing leads there
  } else if (!is_made && changed_.count(number) == 0) {
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
    std::optional<Bytes> with = patched(number, out);
    if (!with) throw Error(ErrorCode::guard, "a record has outgrown its plan", {.record = number});
    out = std::move(*with);
  }
  if (mft_bitmap_.resident && mft_bitmap_.records.count(number) != 0 && !record_bits_.empty()) {
    each_raw_attribute(out, widest_, [&](const RawAttribute& a) {
      if (a.head.type.value() != at_bitmap || a.head.non_resident != 0) return;
      const auto head = load<ResidentHeader>(out, a.at + sizeof(AttributeHeader));
      const ByteSpan value =
          ByteSpan(out).subspan(a.at + head.value_offset.value(), head.value_length.value());
      for (const auto& [n, used] : record_bits_) {
        if (n / 8 >= value.size()) continue;
        const unsigned mask = 1u << n % 8;
        value[n / 8] = static_cast<std::uint8_t>(used ? value[n / 8] | mask : value[n / 8] & ~mask);
      }
    });
  }
  protect(out, next);
  return out;
}

void Edit::write_mft(const EditOutput& out) const {
  for (const Shadow& s : of_mft_) {
    // Whole units at a time, through the runs that they go to.
    const std::uint64_t step =
        std::max<std::uint64_t>(1, piece_bytes / (units_.clusters * cluster_bytes_)) *
        units_.clusters;
    Runs left = s.to;
    for (std::uint64_t at = 0; at < s.count; at += step) {
      const std::uint64_t count = std::min(step, s.count - at);
      Bytes piece(count * cluster_bytes_);
      volume_.read(volume_.mft(), (s.vcn + at) * cluster_bytes_, piece);
      const std::uint64_t first = (s.vcn + at) * cluster_bytes_ / record_bytes_;
      for (std::uint64_t i = 0; (i + 1) * record_bytes_ <= piece.size(); ++i) {
        const ByteSpan record = ByteSpan(piece).subspan(i * record_bytes_, record_bytes_);
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

void Edit::write_mirror(const EditOutput& out) const {
  Bytes all(new_mirror_.count * cluster_bytes_);
  const std::uint64_t records = std::min<std::uint64_t>(
      std::min<std::uint64_t>(mirror_.size, all.size()) / record_bytes_, volume_.records());
  for (std::uint64_t n = 0; n < records; ++n) {
    Bytes raw(record_bytes_);
    volume_.read(volume_.mft(), n * record_bytes_, raw);
    const Bytes now = final_record(n, raw);
    std::copy(now.begin(), now.end(), all.begin() + static_cast<std::ptrdiff_t>(n * record_bytes_));
  }
  put(out, {new_mirror_}, all);
}

void Edit::write_mft_bitmap(const EditOutput& out) const {
  SectorSet used, unused;
  for (const auto& [n, in_use] : record_bits_) (in_use ? used : unused).add({n, 1});
  const RunMap map(as_before(mft_bitmap_.runs));
  for (const Shadow& s : of_mft_bitmap_) {
    Bytes piece(s.count * cluster_bytes_);
    volume_.read(map, s.vcn * cluster_bytes_, piece);
    set_bits(piece, s.vcn * cluster_bytes_ * 8, used, true);
    set_bits(piece, s.vcn * cluster_bytes_ * 8, unused, false);
    put(out, s.to, piece);
  }
}

void Edit::write_new_bitmap(const EditOutput& out) const {
  const RunMap map(as_before(bitmap_.runs));
  const std::uint64_t size = bitmap_bytes(clusters_);
  const std::uint64_t common = std::min(clusters_, old_end());
  // What follows the last cluster's bit counts as used.
  const SectorSet added{{common, size * 8 - common}};
  const SectorSet beyond{{clusters_, size * 8 - clusters_}};
  const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / cluster_bytes_);
  std::uint64_t vcn = 0;
  for (const Run& to : new_bitmap_) {
    for (std::uint64_t at = 0; at < to.count; at += step) {
      const std::uint64_t count = std::min(step, to.count - at);
      Bytes piece(count * cluster_bytes_);
      const std::uint64_t first = vcn * cluster_bytes_;
      read_old_bits(map, first, piece);
      set_bits(piece, first * 8, added, false);
      set_bits(piece, first * 8, given_, false);
      set_bits(piece, first * 8, taken_, true);
      set_bits(piece, first * 8, beyond, true);
      put(out, {{to.lcn + at, count}}, piece);
      vcn += count;
    }
  }
}

// The old bitmap's bits at the places that their clusters have now; zeros in front of the first and
// after the last. `first`: the byte of the new one that `out` begins with.
void Edit::read_old_bits(const RunMap& bitmap, std::uint64_t first, ByteSpan out) const {
  const std::uint64_t size = std::min(clusters_in(bitmap_.runs) * cluster_bytes_,
                                      div_up<std::uint64_t>(geometry().clusters(), 8));
  const std::uint64_t whole = front_ / 8;
  const unsigned part = front_ % 8;
  // One byte more in front: its last bits are the first ones here.
  const std::uint64_t from = first > whole ? first - whole - 1 : 0;
  const std::uint64_t end =
      std::min(size, first + out.size() - std::min(first + out.size(), whole));
  if (from >= end) return;
  Bytes old(end - from);
  volume_.read(bitmap, from, old);
  const auto byte_at = [&](std::uint64_t shifted) -> unsigned {  // shifted: its place and `whole`
    if (shifted < whole + from || shifted - whole >= end) return 0;
    return old[shifted - whole - from];
  };
  for (std::size_t i = 0; i < out.size(); ++i) {
    const unsigned in_front = first + i == 0 ? 0 : byte_at(first + i - 1);
    out[i] = static_cast<std::uint8_t>(byte_at(first + i) << part | in_front >> (8 - part));
  }
}

void Edit::write_bitmap(const EditOutput& out) const {
  const RunMap map(bitmap_.runs);
  for (const Shadow& s : of_bitmap_) {
    std::uint64_t vcn = s.vcn;
    for (const Run& to : s.to) {
      const std::uint64_t step = std::max<std::uint64_t>(1, piece_bytes / cluster_bytes_);
      for (std::uint64_t at = 0; at < to.count; at += step) {
        const std::uint64_t count = std::min(step, to.count - at);
        Bytes piece(count * cluster_bytes_);
        volume_.read(map, vcn * cluster_bytes_, piece);
        set_bits(piece, vcn * cluster_bytes_ * 8, given_, false);
        set_bits(piece, vcn * cluster_bytes_ * 8, taken_, true);
        put(out, {{to.lcn + at, count}}, piece);
        vcn += count;
      }
    }
  }
}

}  // namespace nuvrat::ntfs

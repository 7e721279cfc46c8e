#include "rewrite/journal_records.h"

#include <algorithm>

#include <fmt/core.h>
#include <zstd.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

namespace nuvrat {
using namespace rewrite;
namespace {

constexpr std::uint64_t max_unreadable = 4096;  // sectors of one record

Bytes pack(ByteView data) {
  Bytes out(ZSTD_compressBound(data.size()));
  const std::size_t n = ZSTD_compress(out.data(), out.size(), data.data(), data.size(), 1);
  if (ZSTD_isError(n) != 0)
    throw Error(ErrorCode::file, "the undo journal could not be compressed");
  out.resize(n);
  return out;
}

void unpack(ByteView packed, ByteSpan out) {
  const std::size_t n = ZSTD_decompress(out.data(), out.size(), packed.data(), packed.size());
  if (ZSTD_isError(n) != 0 || n != out.size()) {
    throw Error(ErrorCode::file, "the undo journal could not be decompressed");
  }
}

void put_crc(Bytes& out, std::uint32_t value) {
  for (unsigned i = 0; i < 4; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * i));
}

std::uint32_t get_crc(ByteView bytes, std::size_t index) {
  std::uint32_t out = 0;
  for (unsigned i = 4; i > 0; --i) out = out << 8 | bytes[index * 4 + i - 1];
  return out;
}

}  // namespace

Journal::Impl::Impl(JournalFile file, std::uint32_t sector_size, Undo undo)
    : file_(std::move(file)), sector_size_(sector_size), undo_(undo) {}

void Journal::Impl::index(const RecordHeader& header, std::uint64_t offset) {
  const unsigned step = header.step.value();
  switch (header.kind) {
    case RecordKind::undo:
      pending_.push_back({step,
                          static_cast<Phase>(header.phase),
                          header.kept,
                          header.neighbour != 0,
                          {header.lba.value(), header.count.value()},
                          offset,
                          static_cast<unsigned>(purposes_.size() - 1)});
      break;
    case RecordKind::purpose: {
      const Bytes text = file_.payload(offset);
      purposes_.emplace_back(text.begin(), text.end());
      break;
    }
    case RecordKind::plan: {
      const Bytes text = file_.payload(offset);
      plan_.assign(text.begin(), text.end());
      break;
    }
    case RecordKind::blob:
      blobs_.push_back(offset);
      break;
    case RecordKind::witness:
      witnesses_.emplace(header.lba.value(), header.count.value());
      break;
    case RecordKind::version:
      pending_versions_.emplace(header.lba.value(), header.count.value());
      break;
    case RecordKind::ready:
      records_.insert(records_.end(), pending_.begin(), pending_.end());
      versions_.insert(pending_versions_.begin(), pending_versions_.end());
      pending_.clear();
      pending_versions_.clear();
      recorded_ = step + 1;
      break;
    case RecordKind::done:
      done_ = std::max(done_, step + 1);  // a copy of the disk may be at an earlier one
      break;
    case RecordKind::reverting:
      reverting_ = true;
      break;
    case RecordKind::reverted:
      reverted_ = true;
      break;
  }
}

void Journal::Impl::append(RecordHeader header, ByteView payload) {
  index(header, file_.append(header, payload));
}

void Journal::Impl::mark(RecordKind kind, unsigned step) {
  RecordHeader header{};
  header.kind = kind;
  header.step = step;
  append(header, {});
  file_.flush();
}

// One wrong bit here would be a wrong bit on the way back, and nothing would ever show it.
void Journal::Impl::require_same_again(const Device& device, SectorRange range,
                                       const Bytes& before) {
  Bytes again(before.size());
  (void)device.read_medium(range.first, again);
  if (again == before) return;
  const auto at = std::mismatch(before.begin(), before.end(), again.begin()).first;
  const std::uint64_t lba =
      range.first + static_cast<std::uint64_t>(at - before.begin()) / device.sector_size();
  throw Error(ErrorCode::device_read,
              fmt::format("the device gave two different contents for sector {}, one right after "
                          "the other",
                          lba),
              {.subject = device.identity().path, .sector = lba},
              "Don't trust this device, its cable or its adapter with a rewrite");
}

void Journal::Impl::record_piece(unsigned step, const Piece& piece, const Device& device,
                                 const Device& rehearsed) {
  Bytes before(piece.range.count * device.sector_size());
  device.read_once(piece.range.first, before);
  require_same_again(device, piece.range, before);
  // Neighbours stay as they are.
  const Bytes after = piece.phase ? rehearsed.read(piece.range.first, piece.range.count) : before;
  Bytes payload;
  for (std::uint64_t i = 0; i < piece.range.count; ++i) put_crc(payload, sector_crc(after, i));
  RecordHeader header{};
  header.kind = RecordKind::undo;
  header.phase = static_cast<std::uint8_t>(piece.phase.value_or(Phase::settle));
  header.neighbour = piece.phase ? 0 : 1;
  header.step = step;
  header.lba = piece.range.first;
  header.count = static_cast<std::uint32_t>(piece.range.count);
  if (!piece.keep) {
    header.kept = Kept::nothing;
    for (std::uint64_t i = 0; i < piece.range.count; ++i) put_crc(payload, sector_crc(before, i));
  } else if (all_zero(before)) {
    header.kept = Kept::zeros;
  } else {
    header.kept = Kept::packed;
    const Bytes packed = pack(before);
    payload.insert(payload.end(), packed.begin(), packed.end());
  }
  append(header, payload);
}

void Journal::Impl::require_disk(const Device& device) const {
  if (device.sector_size() == sector_size_) return;
  throw Error(ErrorCode::refused,
              fmt::format("the undo journal is of a disk with sectors of {} bytes, this one has {}",
                          sector_size_, device.sector_size()));
}

void Journal::Impl::say_purpose(std::string_view what) {
  if (purposes_.back() == what) return;
  RecordHeader header{};
  header.kind = RecordKind::purpose;
  append(header, {reinterpret_cast<const std::uint8_t*>(what.data()), what.size()});
}

std::uint32_t Journal::Impl::sector_crc(ByteView bytes, std::uint64_t index) const {
  return crc32(bytes.subspan(index * sector_size_, sector_size_));
}

Bytes Journal::Impl::before_of(const Record& r) const {
  Bytes out;
  if (r.kept == Kept::nothing) return out;
  out.resize(r.range.count * sector_size_);
  if (r.kept == Kept::packed) {
    const Bytes payload = file_.payload(r.offset);
    unpack(ByteView(payload).subspan(r.range.count * 4), out);
  }
  return out;
}

std::optional<std::uint64_t> Journal::Impl::differs(const Record& r, ByteView after) const {
  const Bytes payload = file_.payload(r.offset);
  for (std::uint64_t i = 0; i < r.range.count; ++i) {
    if (sector_crc(after, i) != get_crc(payload, i)) return i;
  }
  return std::nullopt;
}

Bytes Journal::Impl::read_now(const Device& device, SectorRange range,
                              SectorSet& unreadable) const {
  Bytes now(range.count * sector_size_);
  try {
    (void)device.read_medium(range.first, now);
    return now;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read || range.count == 0) throw;
  }
  std::uint64_t failed = 0;
  for (std::uint64_t i = 0; i < range.count; ++i) {
    try {
      (void)device.read_medium(range.first + i,
                               ByteSpan(now).subspan(i * sector_size_, sector_size_));
    } catch (const Error& e) {
      // A device that is gone would fail at every sector.
      if (e.code() != ErrorCode::device_read || ++failed > max_unreadable) throw;
      unreadable.add({range.first + i, 1});
    }
  }
  return now;
}

void Journal::Impl::see(const Record& r, const Device& device, Seen& seen) const {
  const Bytes payload = file_.payload(r.offset);
  const Bytes now = read_now(device, r.range, seen.unreadable);
  const Bytes was = before_of(r);
  for (std::uint64_t i = 0; i < r.range.count; ++i) {
    const SectorRange sector{r.range.first + i, 1};
    if (seen.unreadable.contains(sector)) continue;
    const std::uint32_t crc = sector_crc(now, i);
    const bool is_after = crc == get_crc(payload, i);
    const bool is_before =
        crc == (was.empty() ? get_crc(payload, r.range.count + i) : sector_crc(was, i));
    const auto [from, to] = versions_.equal_range(sector.first);
    const bool is_between =
        std::any_of(from, to, [crc](const auto& version) { return version.second == crc; });
    if (is_after) seen.after.add(sector);
    if (is_before) seen.before.add(sector);
    if (is_between) seen.on_the_way.add(sector);
    if (was.empty() && (is_after || is_before || is_between)) seen.not_kept.add(sector);
  }
}

void Journal::Impl::Judgement::add(const Judgement& other) {
  known.add(other.known);
  strange.foreign.add(other.strange.foreign);
  strange.unreadable.add(other.strange.unreadable);
}

Journal::Impl::Judgement Journal::Impl::judge(const Record& r, const SectorSet& parts,
                                              const Device& device, bool finished) const {
  Seen seen;
  see(r, device, seen);
  SectorSet fits = seen.after;
  if (!finished) {
    fits.add(seen.before);
    fits.add(seen.on_the_way);
  }
  SectorSet others = parts;
  others.remove(fits);
  others.remove(seen.unreadable);
  SectorSet fine = parts;
  fine.remove(others);
  fine.remove(seen.unreadable);
  return {fine, {others, seen.unreadable}};
}

}  // namespace nuvrat

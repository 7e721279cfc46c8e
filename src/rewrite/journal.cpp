#include <algorithm>
#include <map>
#include <optional>

#include <fmt/format.h>
#include <zstd.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>
#include <nuvrat/journal.h>

#include "rewrite/journal_file.h"

namespace nuvrat {
namespace {

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

void put_u32(Bytes& out, std::uint32_t value) {
  for (unsigned i = 0; i < 4; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * i));
}

std::uint32_t get_u32(ByteView bytes, std::size_t index) {
  std::uint32_t out = 0;
  for (unsigned i = 4; i > 0; --i) out = out << 8 | bytes[index * 4 + i - 1];
  return out;
}

// A record whose checksum is right may still be somebody's invention: nothing in it is believed
// that could lead outside the disk or the record.
bool is_sound(const RecordHeader& r, std::uint64_t disk_sectors) {
  if (r.kind < RecordKind::undo || r.kind > RecordKind::plan) return false;
  if (r.kind != RecordKind::undo) return true;
  const std::uint64_t count = r.count.value();
  const std::uint64_t sums = count * 4;
  if (r.phase > static_cast<std::uint8_t>(Phase::settle) || r.kept > Kept::packed) return false;
  if (count == 0 || count > most_record_sectors || count > disk_sectors ||
      r.lba.value() > disk_sectors - count)
    return false;
  if (r.kept == Kept::nothing) return r.payload.value() == 2 * sums;
  return r.kept == Kept::zeros ? r.payload.value() == sums : r.payload.value() > sums;
}

}  // namespace

// One record: before and after of at most most_record_sectors neighbours.
struct Journal::Record {
  unsigned step;
  Phase phase;
  Kept kept;
  SectorRange range;
  std::uint64_t offset;  // in the journal
  unsigned purpose;      // index of its text
};

class Journal::Impl {
 public:
  Impl(JournalFile file, std::uint32_t sector_size, Undo undo)
      : file_(std::move(file)), sector_size_(sector_size), undo_(undo) {}

  void index(const RecordHeader& header, std::uint64_t offset) {
    const unsigned step = header.step.value();
    switch (header.kind) {
      case RecordKind::undo:
        pending_.push_back({step,
                            static_cast<Phase>(header.phase),
                            header.kept,
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
        done_ = step + 1;
        break;
      case RecordKind::reverting:
        reverting_ = true;
        break;
      case RecordKind::reverted:
        reverted_ = true;
        break;
    }
  }

  void append(RecordHeader header, ByteView payload) {
    index(header, file_.append(header, payload));
  }

  void mark(RecordKind kind, unsigned step) {
    RecordHeader header{};
    header.kind = kind;
    header.step = step;
    append(header, {});
    file_.flush();
  }

  void record_range(unsigned step, Phase phase, SectorRange range, const Device& device,
                    const Device& rehearsed, const SectorSet& live) {
    for (std::uint64_t at = 0; at < range.count; at += most_record_sectors) {
      const SectorRange piece{range.first + at,
                              std::min<std::uint64_t>(most_record_sectors, range.count - at)};
      const Bytes before = device.read(piece.first, piece.count);
      const Bytes after = rehearsed.read(piece.first, piece.count);
      Bytes payload;
      for (std::uint64_t i = 0; i < piece.count; ++i) put_u32(payload, sector_crc(after, i));
      RecordHeader header{};
      header.kind = RecordKind::undo;
      header.phase = static_cast<std::uint8_t>(phase);
      header.step = step;
      header.lba = piece.first;
      header.count = static_cast<std::uint32_t>(piece.count);
      const bool keep = undo_ == Undo::full || phase != Phase::prepare || live.first_overlap(piece);
      if (!keep) {
        header.kept = Kept::nothing;
        for (std::uint64_t i = 0; i < piece.count; ++i) put_u32(payload, sector_crc(before, i));
      } else if (all_zero(before)) {
        header.kept = Kept::zeros;
      } else {
        header.kept = Kept::packed;
        const Bytes packed = pack(before);
        payload.insert(payload.end(), packed.begin(), packed.end());
      }
      append(header, payload);
    }
  }

  void require_disk(const Device& device) const {
    if (device.sector_size() == sector_size_) return;
    throw Error(
        ErrorCode::refused,
        fmt::format("the undo journal is of a disk with sectors of {} bytes, this one has {}",
                    sector_size_, device.sector_size()));
  }

  void say_purpose(const std::string& what) {
    if (purposes_.back() == what) return;
    RecordHeader header{};
    header.kind = RecordKind::purpose;
    append(header, {reinterpret_cast<const std::uint8_t*>(what.data()), what.size()});
  }

  [[nodiscard]] std::uint32_t sector_crc(ByteView bytes, std::uint64_t index) const {
    return crc32(bytes.subspan(index * sector_size_, sector_size_));
  }

  // Before-contents of a record; empty when they were not kept.
  [[nodiscard]] Bytes before_of(const Record& r) const {
    Bytes out;
    if (r.kept == Kept::nothing) return out;
    out.resize(r.range.count * sector_size_);
    if (r.kept == Kept::packed) {
      const Bytes payload = file_.payload(r.offset);
      unpack(ByteView(payload).subspan(r.range.count * 4), out);
    }
    return out;
  }

  // Which of a record's sectors hold something that the rewrite knows.
  void judge(const Record& r, const Device& device, bool finished, SectorSet& known,
             SectorSet& foreign) const {
    const Bytes payload = file_.payload(r.offset);
    Bytes now(r.range.count * sector_size_);
    (void)device.read_medium(r.range.first, now);
    const Bytes before = before_of(r);
    for (std::uint64_t i = 0; i < r.range.count; ++i) {
      const std::uint32_t crc = sector_crc(now, i);
      const std::uint64_t lba = r.range.first + i;
      bool fine = crc == get_u32(payload, i);
      if (!fine && !finished) {
        fine =
            crc == (before.empty() ? get_u32(payload, r.range.count + i) : sector_crc(before, i));
        const auto [from, to] = versions_.equal_range(lba);
        for (auto it = from; it != to; ++it) fine |= it->second == crc;
      }
      (fine ? known : foreign).add({lba, 1});
    }
  }

  JournalFile file_;
  std::uint32_t sector_size_;
  Undo undo_;
  std::vector<Record> records_;
  std::vector<Record> pending_;
  std::multimap<std::uint64_t, std::uint32_t> versions_;
  std::multimap<std::uint64_t, std::uint32_t> pending_versions_;
  std::vector<std::string> purposes_{""};
  std::string plan_;
  unsigned recorded_ = 0;
  unsigned done_ = 0;
  bool reverting_ = false;
  bool reverted_ = false;
};

Journal::Journal(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Journal::Journal(Journal&&) noexcept = default;
Journal& Journal::operator=(Journal&&) noexcept = default;
Journal::~Journal() = default;

Journal Journal::create(const std::filesystem::path& path, const Device& device, Undo undo,
                        std::string_view plan) {
  JournalHeader header{};
  header.magic = journal_magic;
  header.version = 2u;
  header.sector_size = device.sector_size();
  header.disk_sectors = device.sectors();
  header.undo = undo == Undo::full ? 0u : 1u;
  Journal out(
      std::make_unique<Impl>(JournalFile::create(path, header), device.sector_size(), undo));
  RecordHeader record{};
  record.kind = RecordKind::plan;
  out.impl_->append(record, {reinterpret_cast<const std::uint8_t*>(plan.data()), plan.size()});
  out.impl_->file_.flush();
  return out;
}

const std::string& Journal::plan() const {
  return impl_->plan_;
}

Journal Journal::open(const std::filesystem::path& path) {
  JournalHeader header{};
  std::vector<std::pair<RecordHeader, std::uint64_t>> found;
  JournalFile file = JournalFile::open(
      path, header,
      [&found](const RecordHeader& r, std::uint64_t offset) { found.emplace_back(r, offset); });
  const bool fits = header.sector_size.value() >= 512 && header.sector_size.value() <= 4096;
  const auto bad = std::find_if(found.begin(), found.end(), [&header](const auto& r) {
    return !is_sound(r.first, header.disk_sectors.value());
  });
  if (!fits || bad != found.end()) {
    throw Error(ErrorCode::file, "the undo journal holds a record that makes no sense",
                {{}, {}, static_cast<std::uint64_t>(bad - found.begin()), path.string()},
                "It was not written by Nuvrat, or was changed since: nothing is put back from it");
  }
  auto impl = std::make_unique<Impl>(std::move(file), header.sector_size.value(),
                                     header.undo.value() == 0 ? Undo::full : Undo::live);
  for (const auto& [record, offset] : found) impl->index(record, offset);
  impl->pending_.clear();  // a step whose record was cut off was never begun
  impl->pending_versions_.clear();
  return Journal(std::move(impl));
}

Undo Journal::undo() const {
  return impl_->undo_;
}

void Journal::record_step(unsigned step, const Device& device, const Inspection& inspection,
                          const Device& rehearsed, const SectorSet& live) {
  SectorSet recorded;
  for (const WrittenRange& w : inspection.writes) {
    // A sector that a step writes twice is kept once, as it was before the step.
    impl_->say_purpose(w.what);
    for (const SectorRange& range : recorded.gaps(w.range).ranges()) {
      impl_->record_range(step, w.phase, range, device, rehearsed, live);
    }
    recorded.add(w.range);
  }
  for (const SectorVersion& version : inspection.versions) {
    RecordHeader header{};
    header.kind = RecordKind::version;
    header.step = step;
    header.lba = version.lba;
    header.count = version.crc;
    impl_->append(header, {});
  }
  impl_->file_.flush();
  impl_->mark(RecordKind::ready, step);
}

void Journal::mark_done(unsigned step) {
  impl_->mark(RecordKind::done, step);
}
unsigned Journal::steps_recorded() const {
  return impl_->recorded_;
}
unsigned Journal::steps_done() const {
  return impl_->done_;
}
bool Journal::reverting() const {
  return impl_->reverting_;
}
bool Journal::reverted() const {
  return impl_->reverted_;
}

std::vector<WrittenRange> Journal::writes() const {
  std::vector<WrittenRange> out;
  for (const Record& r : impl_->records_) {
    const std::string& what = impl_->purposes_[r.purpose];
    const bool joins = !out.empty() && out.back().step == r.step && out.back().phase == r.phase &&
                       out.back().what == what && out.back().range.end() == r.range.first;
    if (joins) {
      out.back().range.count += r.range.count;
    } else {
      out.push_back({r.phase, r.range, what, r.step});
    }
  }
  return out;
}

SectorSet Journal::foreign_sectors(const Device& device, bool finished) const {
  impl_->require_disk(device);
  SectorSet known;
  SectorSet foreign;
  SectorSet judged;
  for (auto r = impl_->records_.rbegin(); r != impl_->records_.rend(); ++r) {
    // Of a finished chain only what the last step left counts.
    if (finished && judged.first_overlap(r->range)) continue;
    impl_->judge(*r, device, finished, known, foreign);
    judged.add(r->range);
  }
  foreign.remove(known);
  return foreign;
}

bool Journal::before_switch(unsigned step, const Device& device) const {
  impl_->require_disk(device);
  for (const Record& r : impl_->records_) {
    if (r.step != step || r.phase != Phase::switch_over) continue;
    const Bytes before = impl_->before_of(r);
    return device.read(r.range.first, r.range.count) == before;
  }
  return true;
}

std::uint64_t Journal::bytes_to_put_back() const {
  std::uint64_t out = 0;
  for (const Record& r : impl_->records_) {
    if (r.kept != Kept::nothing) out += r.range.count * impl_->sector_size_;
  }
  return out;
}

std::uint64_t Journal::known_sectors(const Device& device) const {
  impl_->require_disk(device);
  SectorSet known, foreign;
  for (const Record& r : impl_->records_) impl_->judge(r, device, false, known, foreign);
  return known.count();
}

std::uint64_t Journal::sectors() const {
  SectorSet out;
  for (const Record& r : impl_->records_) out.add(r.range);
  return out.count();
}

// Of a sector that several steps wrote, what the first of them found.
void Journal::require_put_back(const Device& device) const {
  SectorSet seen;
  Bytes now;
  for (const Record& r : impl_->records_) {
    const Bytes before = impl_->before_of(r);
    for (const SectorRange& part : seen.gaps(r.range).ranges()) {
      if (r.kept == Kept::nothing) continue;
      now.resize(part.count * impl_->sector_size_);
      (void)device.read_medium(part.first, now);
      if (std::equal(now.begin(), now.end(),
                     before.begin() + static_cast<std::ptrdiff_t>((part.first - r.range.first) *
                                                                  impl_->sector_size_)))
        continue;
      throw Error(ErrorCode::cut_off,
                  "the device gives back something else than was put back to " + part.text(),
                  {device.identity().path, part.first, {}, {}},
                  "Run revert again; don't trust this device");
    }
    seen.add(r.range);
  }
}

bool Journal::is_put_back(const Device& device) const {
  impl_->require_disk(device);
  try {
    require_put_back(device);
    return true;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::cut_off) throw;
    return false;
  }
}

void Journal::put_back(Device& device, Progress& progress, Note note) {
  impl_->require_disk(device);
  progress.stage("putting back", bytes_to_put_back());
  if (note == Note::both && !impl_->reverting_) impl_->mark(RecordKind::reverting, 0);
  Bytes now;
  for (unsigned step = impl_->recorded_; step > 0; --step) {
    for (const Phase phase : {Phase::settle, Phase::switch_over, Phase::prepare}) {
      for (const Record& r : impl_->records_) {
        if (r.step != step - 1 || r.phase != phase || r.kept == Kept::nothing) continue;
        const Bytes before = impl_->before_of(r);
        now.resize(before.size());
        if (!device.read_medium(r.range.first, now) || now != before)
          device.write(r.range.first, before);
        progress.advance(before.size());
      }
      device.flush();
    }
  }
  require_put_back(device);
  if (note != Note::none) impl_->mark(RecordKind::reverted, 0);
}

}  // namespace nuvrat

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "device/given.h"
#include "rewrite/journal_records.h"

namespace nuvrat {
using namespace rewrite;
namespace {

constexpr std::size_t max_blob_bytes = 1u << 20;  // of one record

// A record whose checksum is right may still be made up: nothing in it is believed
// that could lead outside the disk or the record.
bool is_sound(const RecordHeader& r, std::uint64_t disk_sectors) {
  constexpr std::uint32_t max_steps = 1024;
  if (r.kind < RecordKind::undo || r.kind > RecordKind::blob) return false;
  if (r.step.value() >= max_steps) return false;
  if (r.kind != RecordKind::undo) return true;
  const std::uint64_t count = r.count.value();
  const std::uint64_t sums = count * 4;
  if (r.phase > static_cast<std::uint8_t>(Phase::settle) || r.kept > Kept::packed) return false;
  if (count == 0 || count > max_record_sectors || count > disk_sectors ||
      r.lba.value() > disk_sectors - count)
    return false;
  if (r.kept == Kept::nothing) return r.payload.value() == 2 * sums;
  return r.kept == Kept::zeros ? r.payload.value() == sums : r.payload.value() > sums;
}

// Calls each(piece) for all that becomes a record of its own. A sector that a step writes twice is
// kept once, as it was before the step.
template <typename Each>
void each_piece(unsigned step, const Device& device, const Inspection& inspection, Undo undo,
                Each each) {
  const auto pieces_of = [&](std::optional<Phase> phase, SectorRange range, std::string_view what) {
    for (std::uint64_t at = 0; at < range.count; at += max_record_sectors) {
      const SectorRange piece{range.first + at,
                              std::min<std::uint64_t>(max_record_sectors, range.count - at)};
      const bool live =
          step > 0 || phase != Phase::prepare || inspection.live.first_overlap(piece).has_value();
      each(Piece{phase, piece, what, undo == Undo::full || live});
    }
  };
  SectorSet recorded;
  for (const WrittenRange& w : inspection.writes) {
    for (const SectorRange& range : recorded.gaps(w.range)) pieces_of(w.phase, range, w.what);
    recorded.add(w.range);
  }
  for (const SectorRange& range : inspection.neighbours(device)) pieces_of(std::nullopt, range, {});
}

}  // namespace

Journal::Journal(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Journal::Journal(Journal&&) noexcept = default;
Journal& Journal::operator=(Journal&&) noexcept = default;
Journal::~Journal() = default;

Journal Journal::create(const std::string& path, const Device& device, Undo undo,
                        const JournalAbout& about) {
  const auto& [plan, blobs, witnesses] = about;
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
  for (std::size_t at = 0; at < blobs.size(); at += max_blob_bytes) {
    RecordHeader piece{};
    piece.kind = RecordKind::blob;
    out.impl_->append(piece, blobs.subspan(at, std::min(max_blob_bytes, blobs.size() - at)));
  }
  Bytes sector(device.sector_size());
  for (const SectorRange& range : witnesses) {
    for (std::uint64_t lba = range.first; lba < range.end(); ++lba) {
      // One that the device doesn't give says nothing of it; of zeros, they would of any disk. Read
      // anew: a device that kept what it gave sees here whether somebody else wrote since.
      if (!device::is_given([&] { device.read_once(lba, sector); }) || all_zero(sector)) continue;
      RecordHeader witness{};
      witness.kind = RecordKind::witness;
      witness.lba = lba;
      witness.count = crc32(sector);
      out.impl_->append(witness, {});
    }
  }
  out.impl_->file_.flush();
  return out;
}

const std::string& Journal::plan() const {
  return impl_->plan_;
}

Bytes Journal::blobs() const {
  Bytes out;
  for (const std::uint64_t offset : impl_->blobs_) {
    const Bytes piece = impl_->file_.payload(offset);
    out.insert(out.end(), piece.begin(), piece.end());
  }
  return out;
}

Journal Journal::open(const std::string& path) {
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
                {.record = static_cast<std::uint64_t>(bad - found.begin()), .path = path},
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
                          const Device& rehearsed) {
  each_piece(step, device, inspection, impl_->undo_, [&](const Piece& piece) {
    if (piece.phase) impl_->say_purpose(piece.what);
    impl_->record_piece(step, piece, device, rehearsed);
  });
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

std::uint64_t Journal::room_for(unsigned step, const Device& device, const Inspection& inspection,
                                Undo undo) {
  std::uint64_t out = (inspection.versions.size() + 2) * sizeof(RecordHeader);
  each_piece(step, device, inspection, undo, [&](const Piece& piece) {
    const std::uint64_t of_sector = piece.keep ? 4 + device.sector_size() : 8;
    // Its header and its purpose's; what can't be packed takes a little more than it is long.
    out += 2 * sizeof(RecordHeader) + piece.what.size() + 64 + piece.range.count * of_sector;
  });
  return out;
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
    if (r.neighbour) continue;
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

}  // namespace nuvrat

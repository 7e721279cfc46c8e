// The way back out of a journal, and what can be told of a disk by it.

#include <algorithm>
#include <utility>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "rewrite/journal_records.h"

namespace nuvrat {
using namespace rewrite;

// The sectors that don't hold what they would where `steps` are done and, if so, the next one is
// under way.
SectorSet Journal::misfits(const std::vector<Seen>& seen, unsigned steps, bool under_way) const {
  SectorSet judged, out;
  const auto judge = [&](unsigned step, const std::vector<const SectorSet*>& fits) {
    SectorSet now;
    for (const Record& r : impl_->records_) {
      if (r.step != step) continue;
      for (const SectorRange& part : judged.gaps(r.range)) now.add(part);
    }
    judged.add(now);
    for (const SectorSet* fit : fits) now.remove(*fit);
    out.add(now);
  };
  const auto count = static_cast<unsigned>(seen.size());
  if (under_way) judge(steps, {&seen[steps].before, &seen[steps].after, &seen[steps].on_the_way});
  for (unsigned step = steps; step > 0; --step) judge(step - 1, {&seen[step - 1].after});
  for (unsigned step = steps; step < count; ++step)
    judge(step, {&seen[step].before, &seen[step].not_kept});
  return out;
}

JournalPosition Journal::position(const Device& device) const {
  impl_->require_disk(device);
  std::vector<Seen> seen(impl_->recorded_);
  for (const Record& r : impl_->records_) {
    if (r.step >= seen.size()) continue;
    impl_->see(r, device, seen[r.step]);
  }
  const unsigned count = impl_->recorded_;
  JournalPosition out;
  std::uint64_t fewest = ~std::uint64_t{0};
  const auto consider = [&](unsigned steps, bool under_way) {
    SectorSet strange = misfits(seen, steps, under_way);
    if (strange.count() >= fewest) return;
    fewest = strange.count();
    out = {steps, !under_way && steps == 0, !under_way && steps == count, std::move(strange)};
  };
  consider(count, false);
  consider(0, false);
  if (fewest == 0) return out;
  // Some fit nowhere, and may leave it open: what the journal notes comes first.
  const JournalPosition exact = std::exchange(out, {});
  const std::uint64_t of_exact = std::exchange(fewest, ~std::uint64_t{0});
  if (impl_->reverted_) consider(0, false);
  if (impl_->done_ == count) consider(count, false);
  if (impl_->done_ < count) consider(impl_->done_, true);
  if (of_exact < fewest) {
    fewest = of_exact;
    out = exact;
  }
  for (unsigned steps = count; steps > 0; --steps) consider(steps - 1, true);
  return out;
}

StrangeSectors Journal::strange_sectors(const Device& device, bool finished) const {
  impl_->require_disk(device);
  SectorSet judged;
  Impl::Judgement all;
  for (auto r = impl_->records_.rbegin(); r != impl_->records_.rend(); ++r) {
    // Of a finished chain only what the last step left counts.
    const SectorSet parts = finished ? judged.gaps(r->range) : SectorSet{r->range};
    all.add(impl_->judge(*r, parts, device, finished));
    judged.add(r->range);
  }
  all.strange.foreign.remove(all.known);
  return std::move(all.strange);
}

std::optional<SectorRange> Journal::torn_sector(const Device& device) const {
  if (impl_->done_ == impl_->recorded_ && !impl_->reverting_) return std::nullopt;
  const StrangeSectors strange = strange_sectors(device, false);
  const unsigned step = std::min(impl_->done_, impl_->recorded_ - 1);
  SectorSet all = strange.foreign;
  all.add(strange.unreadable);
  if (all.empty()) return std::nullopt;
  const SectorRange unit = device.whole_physical({all.ranges().front().first, 1});
  SectorSet outside = all;
  outside.remove(unit);
  if (!outside.empty()) return std::nullopt;
  bool under_way = false;
  bool pieces_differ = true;
  for (const Record& r : impl_->records_) {
    if (!r.range.overlaps(unit)) continue;
    under_way |= impl_->reverting_ || r.step == step;
    if (strange.unreadable.empty() && unit.count == 1)
      pieces_differ &= differs_all_over(r, unit.first, device);
  }
  if (!under_way) return std::nullopt;
  if (!strange.unreadable.empty()) return unit;
  // One sector of 512 bytes is written whole or not at all; anything else in it was written by
  // another program.
  if (unit.count == 1) return pieces_differ ? std::optional(unit) : std::nullopt;
  return all.contains(unit) ? std::optional(unit) : std::nullopt;
}

// A long sector that holds in none of its pieces what it held before.
bool Journal::differs_all_over(const Record& r, std::uint64_t lba, const Device& device) const {
  constexpr std::uint32_t piece = 512;
  const Bytes before = impl_->before_of(r);
  if (before.empty() || impl_->sector_size_ == piece) return false;
  const Bytes now = device.read(lba);
  const ByteView was = ByteView(before).subspan((lba - r.range.first) * now.size(), now.size());
  for (std::size_t at = 0; at < now.size(); at += piece) {
    const ByteView part = was.subspan(at, piece);
    if (std::equal(part.begin(), part.end(), now.begin() + static_cast<std::ptrdiff_t>(at)))
      return false;
  }
  return true;
}

std::optional<std::uint64_t> Journal::differs_from(const Device& rehearsed, unsigned step) const {
  impl_->require_disk(rehearsed);
  for (const Record& r : impl_->records_) {
    if (r.step != step) continue;
    if (const auto at = impl_->differs(r, rehearsed.read(r.range.first, r.range.count)))
      return r.range.first + *at;
  }
  return std::nullopt;
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
    if (r.kept != Kept::nothing && !r.neighbour) out += r.range.count * impl_->sector_size_;
  }
  return out;
}

bool Journal::recognises(const Device& device) const {
  impl_->require_disk(device);
  SectorSet known, all;
  for (const Record& r : impl_->records_) {
    known.add(impl_->judge(r, {r.range}, device, false).known);
    all.add(r.range);
  }
  // What the cut tore says nothing of whose disk it is.
  if (const auto torn = torn_sector(device)) all.remove(*torn);
  std::uint64_t seen = known.count();
  std::uint64_t asked = all.count();
  for (const auto& [lba, crc] : impl_->witnesses_) {
    SectorSet unreadable;
    if (lba >= device.sectors()) continue;
    const Bytes now = impl_->read_now(device, {lba, 1}, unreadable);
    ++asked;
    seen += unreadable.empty() && crc32(now) == crc ? 1 : 0;
  }
  return seen > 0 && seen * 2 > asked;
}

// Of a sector that several steps wrote, what the first of them found.
void Journal::require_put_back(const Device& device) const {
  SectorSet seen;
  Bytes now;
  for (const Record& r : impl_->records_) {
    const Bytes before = impl_->before_of(r);
    for (const SectorRange& part : seen.gaps(r.range)) {
      if (r.kept == Kept::nothing) continue;
      now.resize(part.count * impl_->sector_size_);
      (void)device.read_medium(part.first, now);
      if (std::equal(now.begin(), now.end(),
                     before.begin() + static_cast<std::ptrdiff_t>((part.first - r.range.first) *
                                                                  impl_->sector_size_)))
        continue;
      throw Error(ErrorCode::cut_off,
                  "the device gives back something else than was put back to " + part.text(),
                  {.subject = device.identity().path, .sector = part.first},
                  "Run revert again; don't trust this device");
    }
    seen.add(r.range);
  }
}

// Physical sectors of a step in which there is nothing that could be kept while a part of them is
// written: they go back as a whole.
SectorSet Journal::broken_sectors(unsigned step, const Device& device,
                                  const std::optional<SectorRange>& torn) const {
  SectorSet unreadable;
  SectorSet out;
  for (const Record& r : impl_->records_) {
    if (r.step != step) continue;
    (void)impl_->read_now(device, r.range, unreadable);
    if (torn && r.range.overlaps(*torn)) out.add(*torn);
  }
  for (const SectorRange& r : unreadable) out.add(device.whole_physical(r));
  return out;
}

// Their contents before the step; all of a physical sector is in the journal.
void Journal::put_back_whole(unsigned step, const SectorSet& broken, Device& device) const {
  const std::uint64_t size = impl_->sector_size_;
  for (const SectorRange& whole : broken) {
    Bytes out(whole.count * size);
    for (const Record& r : impl_->records_) {
      if (r.step != step || !r.range.overlaps(whole) || r.kept == Kept::nothing) continue;
      const Bytes before = impl_->before_of(r);
      const std::uint64_t first = std::max(r.range.first, whole.first);
      const std::uint64_t end = std::min(r.range.end(), whole.end());
      std::copy_n(before.begin() + static_cast<std::ptrdiff_t>((first - r.range.first) * size),
                  (end - first) * size,
                  out.begin() + static_cast<std::ptrdiff_t>((first - whole.first) * size));
    }
    device.write(whole.first, out);
  }
  if (!broken.empty()) device.flush();
}

void Journal::put_back_step(unsigned step, Device& device, Progress& progress) {
  impl_->require_disk(device);
  const SectorSet broken = broken_sectors(step, device, torn_sector(device));
  Bytes now;
  for (const Phase phase : {Phase::settle, Phase::switch_over, Phase::prepare}) {
    for (const Record& r : impl_->records_) {
      if (r.step != step || r.phase != phase || r.kept == Kept::nothing) continue;
      const Bytes before = impl_->before_of(r);
      for (const SectorRange& part : broken.gaps(r.range)) {
        const ByteView wanted = ByteView(before).subspan(
            (part.first - r.range.first) * impl_->sector_size_, part.count * impl_->sector_size_);
        now.resize(wanted.size());
        // A server's memory is the server's to keep in step with its disk.
        const bool sure =
            device.read_medium(part.first, now) || device.identity().kind == DeviceKind::network;
        if (!sure || !std::equal(now.begin(), now.end(), wanted.begin()))
          device.write(part.first, wanted);
      }
      if (!r.neighbour) progress.advance(before.size());
    }
    device.flush();
    if (phase == Phase::switch_over) put_back_whole(step, broken, device);
  }
}

void Journal::put_back(Device& device, Progress& progress, Note note) {
  impl_->require_disk(device);
  progress.stage("putting back", bytes_to_put_back());
  if (note == Note::both && !impl_->reverting_) impl_->mark(RecordKind::reverting, 0);
  for (unsigned step = impl_->recorded_; step > 0; --step)
    put_back_step(step - 1, device, progress);
  require_put_back(device);
  if (note != Note::none) impl_->mark(RecordKind::reverted, 0);
}

}  // namespace nuvrat

#include <algorithm>

#include <fmt/core.h>
#include <xxhash.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>

namespace nuvrat {
namespace {

void add_range(std::vector<WrittenRange>& out, Phase phase, SectorRange range,
               const std::string& what) {
  if (!out.empty() && out.back().phase == phase && out.back().range.end() == range.first &&
      out.back().what == what) {
    out.back().range.count += range.count;
  } else {
    out.push_back({phase, range, what});
  }
}

// The whole physical sectors that a write of `data` leaves, as far as they are more than the data.
Bytes with_neighbours(const Device& device, SectorRange range, SectorRange whole, ByteView data) {
  Bytes out = device.read(whole.first, whole.count);
  std::copy(data.begin(), data.end(),
            out.begin() +
                static_cast<std::ptrdiff_t>((range.first - whole.first) * device.sector_size()));
  return out;
}

std::uint64_t hash_of_write(std::uint64_t lba, ByteView data) {
  return XXH3_64bits_withSeed(data.data(), data.size(), lba);
}

// What is about to be written over a second time was on the disk for a while.
void note_versions(const Device& overlay, SectorRange range, SectorSet& written, Inspection& out) {
  for (SectorRange rest = range; rest.count > 0;) {
    const auto hit = written.first_overlap(rest);
    if (!hit) break;
    for (std::uint64_t lba = hit->first; lba < hit->end(); ++lba)
      out.versions.push_back({lba, crc32(overlay.read(lba))});
    rest = {hit->end(), range.end() - hit->end()};
  }
  written.add(range);
}

void note_hash(const Device& overlay, Phase phase, SectorRange range, ByteView data,
               Inspection& out) {
  const SectorRange whole = overlay.whole_physical(range);
  out.hashes[static_cast<std::size_t>(phase)].push_back(
      whole == range ? hash_of_write(range.first, data)
                     : hash_of_write(whole.first, with_neighbours(overlay, range, whole, data)));
}

// Writes to the overlay what the guard lets through.
class GuardedSink final : public SectorSink {
 public:
  // What the rewrite has done so far.
  struct Played {
    Overlay& overlay;
    SectorSet& written;
    Inspection& out;
  };
  GuardedSink(const std::string& rewrite, Phase phase, const SectorSet& owned, const Played& played)
      : rewrite_(rewrite),
        phase_(phase),
        owned_(owned),
        overlay_(played.overlay),
        written_(played.written),
        out_(played.out) {}

  void write(std::uint64_t lba, ByteView data) override {
    const SectorRange range{lba, data.size() / overlay_.sector_size()};
    if (const auto hit = owned_.first_overlap(range)) {
      throw Error(ErrorCode::guard,
                  fmt::format("'{}' would write {} in its {} phase, which a live structure owns",
                              rewrite_, hit->text(), name_of(phase_)),
                  {.subject = overlay_.identity().path, .sector = hit->first},
                  "Nothing was written. This is a mistake in Nuvrat: please report it");
    }
    note_versions(overlay_, range, written_, out_);
    overlay_.write(lba, data);
    add_range(out_.writes, phase_, range, what_);
    note_hash(overlay_, phase_, range, data, out_);
  }

  void purpose(std::string_view what) override { what_ = what; }

 private:
  std::string what_;
  std::string rewrite_;
  Phase phase_;
  const SectorSet& owned_;
  Overlay& overlay_;
  SectorSet& written_;
  Inspection& out_;
};

// Writes to the device what the inspection saw, and remembers what it wrote to read it back.
class InspectedSink final : public SectorSink {
 public:
  InspectedSink(Device& device, Progress& progress, const Inspection& inspection, Phase phase)
      : device_(device),
        progress_(progress),
        allowed_(inspection.sectors(phase)),
        hashes_(inspection.hashes[static_cast<std::size_t>(phase)]),
        may_stop_(phase == Phase::prepare) {}

  void write(std::uint64_t lba, ByteView data) override {
    if (may_stop_ && progress_.cancelled()) {
      throw Error(ErrorCode::cancelled, "stopped before the switch");
    }
    const SectorRange range{lba, data.size() / device_.sector_size()};
    if (!allowed_.contains(range)) {
      throw Error(ErrorCode::guard,
                  fmt::format("{} was not in what the rehearsal wrote", range.text()),
                  {.subject = device_.identity().path, .sector = lba});
    }
    const SectorRange whole = device_.whole_physical(range);
    const Bytes all = whole == range ? Bytes() : with_neighbours(device_, range, whole, data);
    const ByteView bytes = all.empty() ? data : ByteView(all);
    if (next_ == hashes_.size() || hashes_[next_++] != hash_of_write(whole.first, bytes)) {
      throw Error(ErrorCode::device_read,
                  fmt::format("what would be written to {} is not what was rehearsed: a sector was "
                              "read wrongly, in the rehearsal or now",
                              range.text()),
                  {.subject = device_.identity().path, .sector = lba},
                  "These sectors were not written. Check memory, cable and adapter, then begin "
                  "anew");
    }
    device_.write(whole.first, bytes);
    progress_.advance(data.size());
    written_.push_back({range, XXH3_64bits(data.data(), data.size())});
  }

  // Reads everything back past the cache; the first range that differs, if any.
  std::optional<SectorRange> read_back() {
    Bytes buffer;
    SectorSet later;  // written over since, in this same phase
    for (auto it = written_.rbegin(); it != written_.rend(); ++it) {
      const bool covered = later.first_overlap(it->range).has_value();
      later.add(it->range);
      if (covered) continue;
      buffer.resize(it->range.count * device_.sector_size());
      from_medium_ &= device_.read_medium(it->range.first, buffer);
      if (XXH3_64bits(buffer.data(), buffer.size()) != it->hash) return it->range;
    }
    return std::nullopt;
  }
  [[nodiscard]] bool from_medium() const { return from_medium_; }
  /// All that was rehearsed of this phase was written. Throws Error (device_read).
  void require_all() const {
    if (next_ == hashes_.size()) return;
    throw Error(ErrorCode::device_read,
                fmt::format("{} of {} rehearsed writes were made: a sector was read wrongly, in "
                            "the rehearsal or now",
                            next_, hashes_.size()),
                {.subject = device_.identity().path},
                "Check memory, cable and adapter, then begin anew");
  }

 private:
  struct Written {
    SectorRange range;
    std::uint64_t hash;
  };
  Device& device_;
  Progress& progress_;
  SectorSet allowed_;
  const std::vector<std::uint64_t>& hashes_;
  std::size_t next_ = 0;
  bool may_stop_;
  bool from_medium_ = true;
  std::vector<Written> written_;
};

void settle_on(Rewrite& rewrite, Overlay& overlay, OwnedSectors owned, SectorSet& written,
               Inspection& out) {
  SectorSet live = owned(overlay);
  live.remove({rewrite.switch_sector().lba, 1});  // it may be tidied: that is one sector again
  for (const Exemption& e : rewrite.exemptions(Phase::settle)) live.remove(e.sectors);
  GuardedSink settle(rewrite.name(), Phase::settle, live, {overlay, written, out});
  rewrite.settle(settle);
}

SectorSet common(const SectorSet& set, SectorRange range) {
  SectorSet out{range};
  out.remove(set.gaps(range));
  return out;
}

std::uint64_t bytes_in(const SectorSet& sectors, const Device& device) {
  return sectors.count() * device.sector_size();
}

}  // namespace

const char* name_of(Phase phase) {
  switch (phase) {
    case Phase::prepare:
      return "prepare";
    case Phase::switch_over:
      return "switch";
    case Phase::settle:
      return "settle";
  }
  return "prepare";
}

SectorSet Inspection::sectors(Phase phase) const {
  SectorSet out;
  for (const WrittenRange& w : writes) {
    if (w.phase == phase) out.add(w.range);
  }
  return out;
}

SectorSet Inspection::all_sectors() const {
  SectorSet out;
  for (const WrittenRange& w : writes) out.add(w.range);
  return out;
}

SectorSet Inspection::neighbours(const Device& device) const {
  SectorSet out;
  for (const WrittenRange& w : writes) out.add(device.whole_physical(w.range));
  out.remove(all_sectors());
  return out;
}

Inspection Engine::inspect(Rewrite& rewrite, Overlay& overlay, OwnedSectors owned) {
  Inspection out;
  SectorSet before = owned(overlay);
  SectorSet exempt;
  for (const Exemption& e : rewrite.exemptions(Phase::prepare)) {
    for (const SectorRange& r : e.sectors) exempt.add(common(before, r));
    before.remove(e.sectors);
  }
  SectorSet written;
  GuardedSink prepare(rewrite.name(), Phase::prepare, before, {overlay, written, out});
  rewrite.prepare(prepare);
  for (const WrittenRange& w : out.writes) out.live.add(common(exempt, w.range));

  const SectorWrite change = rewrite.switch_sector();
  if (change.data.size() != overlay.sector_size()) {
    throw Error(ErrorCode::guard,
                fmt::format("the switch of '{}' is not one sector", rewrite.name()));
  }
  note_versions(overlay, {change.lba, 1}, written, out);
  overlay.write(change.lba, change.data);
  out.writes.push_back({Phase::switch_over, {change.lba, 1}, rewrite.switch_purpose()});
  note_hash(overlay, Phase::switch_over, {change.lba, 1}, change.data, out);

  settle_on(rewrite, overlay, owned, written, out);
  return out;
}

Inspection Engine::inspect_settle(Rewrite& rewrite, Overlay& overlay, OwnedSectors owned) {
  Inspection out;
  SectorSet written;
  const SectorWrite change = rewrite.switch_sector();
  overlay.write(change.lba, change.data);  // it is made once more
  out.writes.push_back({Phase::switch_over, {change.lba, 1}, rewrite.switch_purpose()});
  note_hash(overlay, Phase::switch_over, {change.lba, 1}, change.data, out);
  settle_on(rewrite, overlay, owned, written, out);
  return out;
}

void Engine::run(Rewrite& rewrite, const Inspection& inspection) {
  const SectorSet to_prepare = inspection.sectors(Phase::prepare);
  progress_.stage(rewrite.name() + ": prepare", bytes_in(to_prepare, device_));
  InspectedSink prepare(device_, progress_, inspection, Phase::prepare);
  rewrite.prepare(prepare);
  prepare.require_all();
  device_.flush();
  if (const auto bad = prepare.read_back()) {
    throw Error(
        ErrorCode::device_write,
        fmt::format("the device gave back something else than was written to {}", bad->text()),
        {.subject = device_.identity().path, .sector = bad->first},
        "The disk still is what it was. Don't trust this device with a rewrite");
  }
  from_medium_ &= prepare.from_medium();
  if (progress_.cancelled()) throw Error(ErrorCode::cancelled, "stopped before the switch");
  switch_over(rewrite, inspection);
  finish(rewrite, inspection);
}

// Nothing is settled before the switch is seen on the medium.
void Engine::switch_over(Rewrite& rewrite, const Inspection& inspection) {
  progress_.stage(rewrite.name() + ": switch", device_.sector_size());
  InspectedSink change(device_, progress_, inspection, Phase::switch_over);
  const SectorWrite sector = rewrite.switch_sector();
  const Bytes before = device_.read(sector.lba);
  change.write(sector.lba, sector.data);
  device_.flush();
  const auto bad = change.read_back();
  from_medium_ &= change.from_medium();
  if (!bad) return;
  Bytes now(device_.sector_size());
  (void)device_.read_medium(sector.lba, now);
  throw Error(now == before ? ErrorCode::device_write : ErrorCode::cut_off,
              fmt::format("the device said that it took {}, and gives back {}", bad->text(),
                          now == before ? "what was there before" : "something else"),
              {.subject = device_.identity().path, .sector = bad->first},
              "Don't trust this device with a rewrite");
}

void Engine::finish_again(Rewrite& rewrite, const Inspection& inspection) {
  switch_over(rewrite, inspection);
  finish(rewrite, inspection);
}

void Engine::finish(Rewrite& rewrite, const Inspection& inspection) {
  const SectorSet to_settle = inspection.sectors(Phase::settle);
  progress_.stage(rewrite.name() + ": settle", bytes_in(to_settle, device_));
  InspectedSink settle(device_, progress_, inspection, Phase::settle);
  if (progress_.cancelled()) progress_.end_awaited();
  rewrite.settle(settle);
  settle.require_all();
  device_.flush();
  const auto bad = settle.read_back();
  from_medium_ &= settle.from_medium();
  if (bad) {
    throw Error(
        ErrorCode::cut_off,
        fmt::format("the device gave back something else than was written to {}", bad->text()),
        {.subject = device_.identity().path, .sector = bad->first});
  }
}

}  // namespace nuvrat

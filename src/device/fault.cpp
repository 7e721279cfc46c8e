#include <algorithm>
#include <charconv>
#include <thread>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/fault.h>

namespace nuvrat {
namespace {

std::uint64_t number_of(std::string_view text, std::string_view whole) {
  std::uint64_t value = 0;
  const auto result = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.empty() || result.ptr != text.data() + text.size()) {
    throw Error(ErrorCode::words, fmt::format("'{}' is not a fault: a number was expected", whole),
                {}, "Say for instance cut=12,keep=some,seed=3");
  }
  return value;
}

SectorRange range_of(std::string_view text, std::string_view whole) {
  const std::size_t plus = text.find('+');
  if (plus == text.npos) return {number_of(text, whole), 1};
  return {number_of(text.substr(0, plus), whole), number_of(text.substr(plus + 1), whole)};
}

void take_part(FaultPlan& plan, std::string_view part) {
  const std::size_t equals = part.find('=');
  const std::string_view name = part.substr(0, equals);
  const std::string_view value = equals == part.npos ? "" : part.substr(equals + 1);
  if (name == "cut") {
    plan.cut_before = number_of(value, part);
  } else if (name == "keep" && value == "none") {
    plan.keep = FaultPlan::Keep::none;
  } else if (name == "keep" && value == "all") {
    plan.keep = FaultPlan::Keep::all;
  } else if (name == "keep" && value == "some") {
    plan.keep = FaultPlan::Keep::some;
  } else if (name == "at-cut" && value == "whole") {
    plan.at_cut = FaultPlan::AtCut::whole;
  } else if (name == "at-cut" && value == "torn") {
    plan.at_cut = FaultPlan::AtCut::torn;
  } else if (name == "at-cut" && value == "garbled") {
    plan.at_cut = FaultPlan::AtCut::garbled;
  } else if (name == "seed") {
    plan.seed = number_of(value, part);
  } else if (name == "vanish") {
    plan.vanish_before = number_of(value, part);
  } else if (name == "drop-write") {
    plan.drop_write = number_of(value, part);
  } else if (name == "drop-flush") {
    plan.drop_flush = number_of(value, part);
  } else if (name == "flip-read") {
    plan.flip_read = number_of(value, part);
  } else if (name == "bad-read") {
    plan.bad_reads.add(range_of(value, part));
  } else if (name == "bad-write") {
    plan.bad_writes.add(range_of(value, part));
  } else if (name == "delay") {
    plan.delay = std::chrono::microseconds(number_of(value, part));
  } else {
    throw Error(ErrorCode::words, fmt::format("'{}' is not a fault", part), {},
                "Say any of cut=N keep=none|some|all at-cut=whole|torn|garbled seed=N vanish=N "
                "bad-read=LBA+COUNT bad-write=LBA+COUNT drop-write=N drop-flush=N "
                "flip-read=N delay=MICROSECONDS, with commas between");
  }
}

}  // namespace

FaultPlan parse_fault_plan(std::string_view text) {
  FaultPlan plan;
  while (!text.empty()) {
    const std::size_t comma = std::min(text.find(','), text.size());
    take_part(plan, text.substr(0, comma));
    text.remove_prefix(std::min(comma + 1, text.size()));
  }
  return plan;
}

FaultDevice::FaultDevice(Device& base, FaultPlan plan)
    : Device(base.sector_size(), base.sectors(), base.identity(), base.physical()),
      base_(base),
      plan_(std::move(plan)) {}

void FaultDevice::operation() const {
  if (plan_.delay.count() > 0) std::this_thread::sleep_for(plan_.delay);
  ++operations_;
  if (plan_.vanish_before && operations_ >= *plan_.vanish_before) dead_ = true;
  if (dead_) {
    throw Error(ErrorCode::device_read, "the device is gone", {.subject = identity().path});
  }
}

std::uint64_t FaultDevice::next_data(std::uint64_t lba) const {
  auto it = cache_.upper_bound(lba);
  if (it != cache_.begin() && std::prev(it)->second.range.contains(lba)) return lba;
  const std::uint64_t below = base_.next_data(lba);
  return it == cache_.end() ? below : std::min(it->first, below);
}

void FaultDevice::check_readable(SectorRange range) const {
  auto hit = plan_.bad_reads.first_overlap(range);
  if (!hit) hit = plan_.bad_reads_until_written.first_overlap(range);
  if (hit) {
    throw Error(ErrorCode::device_read, "the sector can't be read",
                {.subject = identity().path, .sector = hit->first});
  }
}

bool FaultDevice::do_read_medium(std::uint64_t lba, ByteSpan out) const {
  operation();
  check_readable({lba, out.size() / sector_size()});
  const bool from_medium = base_.read_medium(lba, out);
  count_read(out);
  return from_medium;
}

void FaultDevice::count_read(ByteSpan out) const {
  if (++reads_ != plan_.flip_read) return;
  const std::uint64_t bit = Random(plan_.seed).below(out.size() * 8);
  out[bit / 8] = static_cast<std::uint8_t>(out[bit / 8] ^ 1u << bit % 8);
}

void FaultDevice::do_read(std::uint64_t lba, ByteSpan out) const {
  operation();
  const SectorRange range{lba, out.size() / sector_size()};
  check_readable(range);
  base_.read(lba, out);
  const std::uint32_t size = sector_size();
  auto it = cache_.upper_bound(lba);
  if (it != cache_.begin()) --it;
  for (; it != cache_.end() && it->first < range.end(); ++it) {
    const Written& w = it->second;
    const std::uint64_t first = std::max(w.range.first, lba);
    const std::uint64_t end = std::min(w.range.end(), range.end());
    if (first >= end) continue;
    const ByteView part =
        ByteView(w.data).subspan((first - w.range.first) * size, (end - first) * size);
    std::copy(part.begin(), part.end(),
              out.begin() + static_cast<std::ptrdiff_t>((first - lba) * size));
  }
  count_read(out);
}

void FaultDevice::do_write(std::uint64_t lba, ByteView data) {
  operation();
  if (++writes_ == plan_.drop_write) return;
  const std::uint64_t end = lba + data.size() / sector_size();
  for (std::uint64_t at = lba; at < end;) {
    const SectorRange whole = whole_physical({at, 1});
    const SectorRange part{at, std::min(end, whole.end()) - at};
    const ByteView bytes = data.subspan((at - lba) * sector_size(), part.count * sector_size());
    ++written_;
    if (plan_.cut_before && written_ >= *plan_.cut_before) cut(part, bytes);
    if (const auto bad = plan_.bad_writes.first_overlap(part)) {
      throw Error(ErrorCode::device_write, "the sector can't be written",
                  {.subject = identity().path, .sector = bad->first});
    }
    plan_.bad_reads_until_written.remove(part);
    Written& w = cache_[whole.first];
    if (part == whole) {
      w = {whole, Bytes(bytes.begin(), bytes.end()), false};
    } else {  // what the medium would have to merge; no device of ours is written so
      if (w.data.empty()) w.data = base_.read(whole.first, whole.count);
      w.range = whole;
      w.merged = true;
      std::copy(bytes.begin(), bytes.end(),
                w.data.begin() + static_cast<std::ptrdiff_t>((at - whole.first) * sector_size()));
    }
    at = part.end();
  }
}

void FaultDevice::do_flush() {
  operation();
  if (++flushes_ == plan_.drop_flush) return;
  for (const auto& [lba, w] : cache_) base_.write(lba, w.data);
  base_.flush();
  cache_.clear();
}

void FaultDevice::cut(SectorRange under_way, ByteView data) {
  Random random(plan_.seed);
  const auto garbage = [&](SectorRange range) {
    Bytes out(range.count * sector_size());
    for (std::uint8_t& b : out) b = static_cast<std::uint8_t>(random.below(256));
    return out;
  };
  for (const auto& [lba, w] : cache_) {
    const bool kept = plan_.keep == FaultPlan::Keep::all ||
                      (plan_.keep == FaultPlan::Keep::some && random.below(2) == 0);
    if (kept) base_.write(lba, w.merged ? garbage(w.range) : w.data);
  }
  switch (plan_.at_cut) {
    case FaultPlan::AtCut::whole:
      break;
    case FaultPlan::AtCut::torn:
      for (std::uint64_t i = 0; i < under_way.count; ++i) {
        if (random.below(2) == 0)
          base_.write(under_way.first + i, data.subspan(i * sector_size(), sector_size()));
      }
      break;
    case FaultPlan::AtCut::garbled:
      base_.write(under_way.first, garbage(under_way));
      break;
  }
  base_.flush();
  cache_.clear();
  dead_ = true;
  throw Error(ErrorCode::device_write, "the power failed", {.subject = identity().path});
}

}  // namespace nuvrat

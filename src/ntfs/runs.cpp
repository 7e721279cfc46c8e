#include "ntfs/runs.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>

namespace nuvrat::ntfs {
namespace {

// The fewest bytes that hold the number with its sign.
unsigned signed_width(std::int64_t value) {
  unsigned width = 1;
  while (width < 8) {
    const std::int64_t limit = std::int64_t{1} << (8 * width - 1);
    if (value >= -limit && value < limit) break;
    ++width;
  }
  return width;
}

void put(Bytes& out, std::uint64_t value, unsigned width) {
  for (unsigned i = 0; i < width; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * i));
}

std::int64_t get_signed(ByteView bytes) {
  std::uint64_t value = 0;
  for (std::size_t i = bytes.size(); i > 0; --i) value = value << 8 | bytes[i - 1];
  const unsigned bits = static_cast<unsigned>(bytes.size()) * 8;
  if (bits < 64 && (value >> (bits - 1) & 1) != 0) value |= ~std::uint64_t{0} << bits;
  return static_cast<std::int64_t>(value);
}

Error damaged(const std::string& text) {
  return {ErrorCode::damaged, "the runlist is damaged: " + text};
}

}  // namespace

void encode_run(const Run& run, std::uint64_t& previous, Bytes& out) {
  const unsigned length = signed_width(static_cast<std::int64_t>(run.count));
  if (run.lcn == Run::hole) {
    out.push_back(static_cast<std::uint8_t>(length));
    put(out, run.count, length);
    return;
  }
  const auto delta = static_cast<std::int64_t>(run.lcn - previous);
  const unsigned width = signed_width(delta);
  out.push_back(static_cast<std::uint8_t>(width << 4 | length));
  put(out, run.count, length);
  put(out, static_cast<std::uint64_t>(delta), width);
  previous = run.lcn;
}

std::size_t encoded_bytes(const Runs& runs) {
  std::size_t out = 1;  // the end
  std::uint64_t previous = 0;
  for (const Run& run : runs) {
    out += 1 + signed_width(static_cast<std::int64_t>(run.count));
    if (run.lcn == Run::hole) continue;
    out += signed_width(static_cast<std::int64_t>(run.lcn - previous));
    previous = run.lcn;
  }
  return out;
}

void decode_runs(ByteView bytes, std::uint64_t clusters, std::uint64_t max_holes, Runs& out) {
  std::int64_t lcn = 0;
  std::uint64_t total = 0;  // of clusters that are there
  std::uint64_t holes = 0;
  for (std::size_t at = 0; at < bytes.size() && bytes[at] != 0;) {
    const unsigned length = bytes[at] & 0x0F;
    const unsigned width = bytes[at] >> 4;
    ++at;
    if (length == 0 || length > 8 || width > 8 || length + width > bytes.size() - at)
      throw damaged(fmt::format("a pair of {} and {} bytes", length, width));
    const std::int64_t count = get_signed(bytes.subspan(at, length));
    at += length;
    std::uint64_t& sum = width > 0 ? total : holes;
    if (count <= 0 || static_cast<std::uint64_t>(count) > (width > 0 ? clusters : max_holes) - sum)
      throw damaged(
          width > 0
              ? fmt::format("a run of {} clusters on a volume of {}", count, clusters)
              : fmt::format("a hole of {} clusters where its header has {}", count, max_holes));
    sum += static_cast<std::uint64_t>(count);
    Run run;
    run.count = static_cast<std::uint64_t>(count);
    if (width > 0) {
      if (__builtin_add_overflow(lcn, get_signed(bytes.subspan(at, width)), &lcn) || lcn < 0 ||
          static_cast<std::uint64_t>(lcn) > clusters - run.count) {
        throw damaged(
            fmt::format("{} clusters at {}, on a volume of {}", run.count, lcn, clusters));
      }
      run.lcn = static_cast<std::uint64_t>(lcn);
    }
    at += width;
    out.push_back(run);
  }
}

RunMap::RunMap(Runs runs) : runs_(std::move(runs)) {
  for (const Run& r : runs_) {
    starts_.push_back(total_);
    total_ += r.count;
  }
}

std::optional<Run> RunMap::at(std::uint64_t vcn) const {
  if (vcn >= total_) return std::nullopt;
  const auto after = std::upper_bound(starts_.begin(), starts_.end(), vcn);
  const auto i = static_cast<std::size_t>(after - starts_.begin()) - 1;
  Run out = runs_[i];
  const std::uint64_t skipped = vcn - starts_[i];
  if (out.lcn != Run::hole) out.lcn += skipped;
  out.count -= skipped;
  return out;
}

}  // namespace nuvrat::ntfs

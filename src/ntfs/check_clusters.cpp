// $Bitmap against the runlists: every cluster belongs to exactly one, every set bit to some.

#include <algorithm>

#include <fmt/core.h>

#include "ntfs/check_state.h"

namespace nuvrat::ntfs {
namespace {

std::string owner(const CheckState::Claim& c) {
  return fmt::format("record {} (attribute {:X})", c.record, c.type);
}

// Sorts the claims and reports overlaps; what remains is disjoint.
Runs disjoint_claims(CheckState& state) {
  auto& claims = state.claims;
  std::sort(claims.begin(), claims.end(),
            [](const auto& a, const auto& b) { return a.lcn < b.lcn; });
  Runs out;
  const CheckState::Claim* widest = nullptr;
  for (const CheckState::Claim& c : claims) {
    std::uint64_t from = c.lcn;
    if (widest != nullptr && c.lcn < widest->lcn + widest->count) {
      const std::uint64_t shared = std::min(c.count, widest->lcn + widest->count - c.lcn);
      state.error(Rule::ntfs_cluster_shared, c.record,
                  fmt::format("{} clusters from {} on belong to {} and to {}", shared, c.lcn,
                              owner(*widest), owner(c)),
                  c.lcn);
      from += shared;
    }
    if (from < c.lcn + c.count) add_run(out, {from, c.lcn + c.count - from});
    if (widest == nullptr || c.lcn + c.count > widest->lcn + widest->count) widest = &c;
  }
  return out;
}

class BitmapWalk {
 public:
  BitmapWalk(CheckState& state, const Runs& used)
      : state_(state),
        clusters_(state.volume.geometry().clusters()),
        run_(used.begin()),
        end_(used.end()) {}

  void take(ByteView bytes) {
    for (const std::uint8_t byte : bytes) {
      // Whole bytes that agree are most of the volume.
      skip();
      const bool in_run = run_ != end_ && run_->lcn <= at_;
      const bool all_used = in_run && at_ + 8 <= run_->lcn + run_->count;
      const bool none_used = !in_run && (run_ == end_ || at_ + 8 <= run_->lcn);
      if (at_ + 8 <= clusters_ && ((all_used && byte == 0xFF) || (none_used && byte == 0))) {
        at_ += 8;
        continue;
      }
      for (unsigned bit = 0; bit < 8; ++bit) take_bit((byte >> bit & 1) != 0);
    }
  }

  void finish() {
    close();
    if (at_ < clusters_)
      state_.error(Rule::ntfs_bitmap_size, record_bitmap,
                   fmt::format("$Bitmap has {} bits for {} clusters", at_, clusters_));
  }

 private:
  void skip() {
    while (run_ != end_ && run_->lcn + run_->count <= at_) ++run_;
  }

  void take_bit(bool set) {
    skip();
    const std::uint64_t cluster = at_++;
    if (cluster >= clusters_) {
      close();
      if (!set && !tail_said_) {
        tail_said_ = true;
        state_.finding(Rule::ntfs_bitmap_tail, Severity::warning, record_bitmap,
                       "bits of $Bitmap beyond the volume's end are not set");
      }
      return;
    }
    const bool used = run_ != end_ && run_->lcn <= cluster;
    const int kind = set == used ? 0 : used ? 1 : 2;
    if (kind != kind_) {
      close();
      kind_ = kind;
      from_ = cluster;
    }
  }

  // Says what was wrong from `from_` to here.
  void close() {
    if (kind_ == 1)
      state_.error(Rule::ntfs_bitmap_missing, record_bitmap,
                   fmt::format("clusters {} to {} belong to a file, but $Bitmap says that they are "
                               "free",
                               from_, at_ - 1),
                   from_);
    if (kind_ == 2)
      state_.finding(
          Rule::ntfs_bitmap_lost, Severity::warning, record_bitmap,
          fmt::format("$Bitmap says that cluster {} and up to {} more are in use, but no "
                      "file has them",
                      from_, at_ - from_),
          from_);
    kind_ = 0;
  }

  CheckState& state_;
  std::uint64_t clusters_;
  Runs::const_iterator run_, end_;
  std::uint64_t at_ = 0;
  std::uint64_t from_ = 0;
  int kind_ = 0;
  bool tail_said_ = false;
};

}  // namespace

void check_clusters(CheckState& state) {
  const Runs used = disjoint_claims(state);
  const auto all = state.system_file(record_bitmap);
  const AttributeView* data = find_attribute(all, at_data);
  if (data == nullptr) {
    state.error(Rule::ntfs_bitmap_size, record_bitmap, "$Bitmap has no contents");
    return;
  }
  if (data->size % 8 != 0)
    state.finding(Rule::ntfs_bitmap_size, Severity::warning, record_bitmap,
                  fmt::format("$Bitmap has {} bytes, which is not a multiple of 8", data->size));
  BitmapWalk walk(state, used);
  state.volume.stream_own(*data, [&walk](ByteView bytes) { walk.take(bytes); });
  walk.finish();
}

}  // namespace nuvrat::ntfs

#pragma once
// A device that fails on purpose, for tests and for rehearsing a cut at the bench.

#include <chrono>
#include <map>
#include <optional>
#include <string_view>

#include <nuvrat/device.h>
#include <nuvrat/random.h>

namespace NUVRAT_API nuvrat {

/// The faults that are to happen. Physical sectors written are counted from 1, over all writes.
struct FaultPlan {
  /// The power fails before this physical sector is written; 1 fails before anything is.
  std::optional<std::uint64_t> cut_before;
  /// Of the sectors written since the last flush, which reached the medium when the power failed.
  enum class Keep { none, all, some } keep = Keep::some;
  std::uint64_t seed = 1;  ///< chooses them for Keep::some, and what garbage is
  /// The state of the physical sector that was to be written when the power failed.
  enum class AtCut {
    whole,    ///< it is written like the others, or not at all
    torn,     ///< some of its logical sectors are new, the others old
    garbled,  ///< it holds what was never written
  } at_cut = AtCut::whole;
  /// The device goes away before this operation (reads, writes and flushes counted from 1).
  std::optional<std::uint64_t> vanish_before;
  SectorSet bad_reads;                ///< sectors that can't be read
  SectorSet bad_reads_until_written;  ///< the same, until they are written again
  SectorSet bad_writes;               ///< sectors that can't be written
  /// The device says that it took this write, or this flush (each counted from 1), and didn't.
  std::optional<std::uint64_t> drop_write, drop_flush;
  /// One bit of this read (counted from 1) comes out wrong; `seed` chooses it.
  std::optional<std::uint64_t> flip_read;
  std::chrono::microseconds delay{0};  ///< for each operation
};

/// From
/// "cut=12,keep=some,seed=3,at-cut=torn,bad-read=100+8,bad-write=7,vanish=50,drop-write=4,drop-flush=2,flip-read=9,delay=5000"
/// (microseconds), any part of it; throws Error (words).
[[nodiscard]] FaultPlan parse_fault_plan(std::string_view text);

/// Keeps what was written in a cache that a power cut loses, as a disk does, until it is flushed.
/// Physical sectors are cached, kept and lost whole. One that was written in part is garbled by the
/// cut, since the medium had to merge it.
/// The base must outlive it.
class FaultDevice final : public Device {
 public:
  FaultDevice(Device& base, FaultPlan plan);

  [[nodiscard]] std::uint64_t sectors_written() const { return written_; }
  [[nodiscard]] std::uint64_t operations() const { return operations_; }
  [[nodiscard]] std::uint64_t reads() const { return reads_; }
  [[nodiscard]] std::uint64_t writes() const { return writes_; }
  [[nodiscard]] std::uint64_t flushes() const { return flushes_; }
  [[nodiscard]] bool dead() const { return dead_; }
  [[nodiscard]] bool writable() const override { return base_.writable(); }
  void forget(SectorRange range) const override { base_.forget(range); }
  void refresh() const override { base_.refresh(); }
  [[nodiscard]] std::string disturbance() const override { return base_.disturbance(); }
  [[nodiscard]] std::string replaced() const override { return base_.replaced(); }
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override;
  /// From the medium alone: it doesn't have what is in the cache.
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override;
  void do_write(std::uint64_t lba, ByteView data) override;
  void do_flush() override;
  void do_reserve(SectorRange range) override { base_.reserve({range}); }
  void operation() const;
  void check_readable(SectorRange range) const;
  void cut(SectorRange under_way, ByteView data);
  void count_read(ByteSpan out) const;

  Device& base_;
  FaultPlan plan_;
  struct Written {
    SectorRange range;
    Bytes data;
    bool merged;  // written in part
  };
  /// By the first LBA of the physical sector: written and not yet flushed.
  std::map<std::uint64_t, Written> cache_;
  std::uint64_t written_ = 0, writes_ = 0, flushes_ = 0;
  mutable std::uint64_t operations_ = 0, reads_ = 0;
  mutable bool dead_ = false;
};

}  // namespace nuvrat

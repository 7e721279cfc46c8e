#pragma once
// Sectors of a device, kept in a nameless temporary file: memory grows only with the number of
// separate ranges.

#include <algorithm>
#include <map>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

#include "base/descriptor.h"

namespace nuvrat::device {

/// One thread at a time. Every read and write throws Error (file) where the temporary file fails.
class SectorStore {
 public:
  /// The file lies in $TMPDIR, or in /tmp.
  explicit SectorStore(std::uint32_t sector_size);

  /// Goes through the range: `kept(part, offset)` for what is in the store, at that byte of its
  /// file, and `missing(part)` for what isn't, each part as long as it can be.
  template <typename Kept, typename Missing>
  void each_part(SectorRange range, Kept kept, Missing missing) const {
    auto it = runs_.upper_bound(range.first);
    if (it != runs_.begin()) --it;
    for (std::uint64_t at = range.first; at < range.end();) {
      while (it != runs_.end() && it->first + it->second.count <= at) ++it;
      const bool here = it != runs_.end() && it->first <= at;
      std::uint64_t stop = range.end();
      if (it != runs_.end()) stop = std::min(stop, here ? it->first + it->second.count : it->first);
      const SectorRange part{at, stop - at};
      if (here) {
        kept(part, (it->second.slot + at - it->first) * sector_size_);
      } else {
        missing(part);
      }
      at = stop;
    }
  }
  void read(std::uint64_t offset, ByteSpan out) const;
  /// Over what is kept of it, or as new.
  void write(std::uint64_t lba, ByteView data);
  void drop(SectorRange range);

  [[nodiscard]] SectorSet sectors() const;
  /// The first sector from `lba` on that is kept; `otherwise` when none is.
  [[nodiscard]] std::uint64_t first_from(std::uint64_t lba, std::uint64_t otherwise) const;
  /// How long the file may become before what it lies on has less than three quarters of the room
  /// that was free at the beginning.
  [[nodiscard]] std::uint64_t fair_bytes() const { return fair_bytes_; }
  [[nodiscard]] std::uint64_t bytes() const { return slots_ * sector_size_; }

 private:
  struct Run {
    std::uint64_t count;
    std::uint64_t slot;  // in sectors from the start of the file
  };
  void append(std::uint64_t lba, ByteView data);

  std::uint32_t sector_size_;
  base::Descriptor file_;
  std::uint64_t fair_bytes_ = 0;
  std::uint64_t slots_ = 0;
  std::map<std::uint64_t, Run> runs_;
};

}  // namespace nuvrat::device

#pragma once
// Times as FAT writes them: local, from 1980 to 2107.

#include <nuvrat/time.h>

namespace nuvrat::fat {

struct Stamp {
  std::uint16_t date = 0;   ///< 0: none recorded
  std::uint16_t time = 0;   ///< in units of 2 seconds
  std::uint8_t tenths = 0;  ///< hundredths beyond it, to 199
};

/// The nearest that FAT can say, rounded down; nothing for 0.
[[nodiscard]] Stamp stamp_of(const Zone& zone, Ticks ticks);
[[nodiscard]] Ticks ticks_of(const Zone& zone, const Stamp& stamp);

}  // namespace nuvrat::fat

#pragma once
// What work costs, told without a clock: the rooms that read what a disk claims are built so that
// every basic block entered calls back, and every allocation of the process is counted.

#include <cstdint>
#include <functional>

namespace bounds {

struct Cost {
  std::uint64_t operations = 0;  ///< basic blocks that the calling thread entered in the library
  std::uint64_t peak_bytes = 0;  ///< most memory in use at once, beyond what was before
};
[[nodiscard]] Cost cost_of(const std::function<void()>& work);

}  // namespace bounds

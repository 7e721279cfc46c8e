#pragma once
// Numbers for new identities: from the operating system, or from a seed so that a demo repeats.

#include <cstdint>
#include <optional>

#include <nuvrat/bytes.h>

namespace NUVRAT_API nuvrat {

class Random {
 public:
  /// From the operating system's generator.
  Random() = default;
  /// Repeatable; for demos and tests only.
  explicit Random(std::uint64_t seed) : state_(seed) {}

  std::uint64_t next();
  /// A number in [0, bound), bound > 0.
  std::uint64_t below(std::uint64_t bound) { return next() % bound; }
  void fill(ByteSpan bytes);

 private:
  std::optional<std::uint64_t> state_;
};

}  // namespace nuvrat

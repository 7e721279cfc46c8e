#pragma once
// How much work a structure in ruins may ask for.

#include <cstdint>

namespace nuvrat::base {

/// Things that only one owner may have, counted as owners claim them. Together they can claim no
/// more than there is; where they claim several times as much, it is plain that they share, and
/// what is followed from there on would no longer be in proportion to the disk.
class Budget {
 public:
  /// `whole`: how much there is.
  explicit Budget(std::uint64_t whole) : left_(times * whole) {}
  /// False, then and ever after, when a claim is larger than what is left.
  [[nodiscard]] bool take(std::uint64_t claim) {
    const bool enough = claim <= left_;
    left_ = enough ? left_ - claim : 0;
    return enough;
  }

 private:
  static constexpr std::uint64_t times = 4;
  std::uint64_t left_;
};

}  // namespace nuvrat::base

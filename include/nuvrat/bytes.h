#pragma once
// Spans of bytes, and arithmetic on sector numbers that says so instead of wrapping.

#include <concepts>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

using Bytes = std::vector<std::uint8_t>;
using ByteView = std::span<const std::uint8_t>;
using ByteSpan = std::span<std::uint8_t>;

/// Throws Error (damaged) saying that `what` leaves the range of 64-bit numbers.
[[noreturn]] void throw_overflow(const char* what);

/// a + b; throws Error when the sum needs more than 64 bits.
inline std::uint64_t checked_add(std::uint64_t a, std::uint64_t b, const char* what) {
  std::uint64_t sum = 0;
  if (__builtin_add_overflow(a, b, &sum)) throw_overflow(what);
  return sum;
}

/// a * b; throws Error when the product needs more than 64 bits.
inline std::uint64_t checked_mul(std::uint64_t a, std::uint64_t b, const char* what) {
  std::uint64_t product = 0;
  if (__builtin_mul_overflow(a, b, &product)) throw_overflow(what);
  return product;
}

/// a / b rounded up, for b > 0; can't overflow.
template <std::unsigned_integral T>
constexpr T div_up(T a, T b) {
  return static_cast<T>(a / b + (a % b != 0 ? 1 : 0));
}

/// True when every byte is zero.
bool all_zero(ByteView bytes);

}  // namespace nuvrat

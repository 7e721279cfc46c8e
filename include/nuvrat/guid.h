#pragma once
// GUIDs as disks hold them: the first three fields little-endian, the rest in order of writing
// (UEFI specification, appendix A).

#include <array>
#include <compare>
#include <cstdint>
#include <string>
#include <string_view>

#include <nuvrat/bytes.h>

namespace NUVRAT_API nuvrat {

class Random;

class Guid {
 public:
  constexpr Guid() = default;
  /// From "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", either case; throws Error (words) otherwise.
  explicit Guid(std::string_view text);
  /// From the 16 bytes of a disk.
  explicit Guid(std::span<const std::uint8_t, 16> on_disk);
  /// A random GUID (version 4, variant 1).
  static Guid random(Random& random);

  [[nodiscard]] std::string text() const;
  [[nodiscard]] const std::array<std::uint8_t, 16>& on_disk() const { return bytes_; }
  [[nodiscard]] bool is_zero() const { return bytes_ == std::array<std::uint8_t, 16>{}; }
  auto operator<=>(const Guid&) const = default;  // NOLINT(modernize-use-nullptr): a false positive

 private:
  std::array<std::uint8_t, 16> bytes_{};  // the order of the disk
};

}  // namespace nuvrat

#pragma once
// CRC-32 as GPT uses it, and SHA-256 as the manifest uses it.

#include <array>
#include <compare>
#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include <nuvrat/bytes.h>

namespace NUVRAT_API nuvrat {

/// CRC-32 (ISO 3309, reflected 0xEDB88320), as the UEFI specification asks for.
[[nodiscard]] std::uint32_t crc32(ByteView bytes);

struct Digest {
  std::array<std::uint8_t, 32> bytes{};
  [[nodiscard]] std::string hex() const;
  /// From 64 hexadecimal digits; throws Error (words).
  static Digest from_hex(std::string_view text);
  bool operator==(const Digest&) const = default;
  bool operator<(const Digest& other) const { return bytes < other.bytes; }
};

/// Streaming SHA-256. `finish` may be called once; the object starts anew with `reset`.
class Sha256 {
 public:
  Sha256();
  ~Sha256();
  Sha256(const Sha256&) = delete;
  Sha256& operator=(const Sha256&) = delete;

  void add(ByteView bytes);
  void add(std::string_view text);
  [[nodiscard]] Digest finish();
  void reset();

  static Digest of(ByteView bytes);

 private:
  struct Context;
  std::unique_ptr<Context> context_;
};

}  // namespace nuvrat

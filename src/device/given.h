#pragma once
// Sectors that a failing device may not give, read where something else can stand in for them.

#include <optional>

#include <nuvrat/device.h>
#include <nuvrat/error.h>

namespace nuvrat::device {

/// False: the device doesn't give what `read` asks of it. Throws Error for anything else.
template <typename Read>
[[nodiscard]] bool is_given(Read read) {
  try {
    read();
    return true;
  } catch (const Error& e) {
    if (e.code() != ErrorCode::device_read) throw;
    return false;
  }
}

[[nodiscard]] inline bool is_given(const Device& device, std::uint64_t lba, ByteSpan out) {
  return is_given([&] { device.read(lba, out); });
}

[[nodiscard]] inline std::optional<Bytes> read_if_given(const Device& device, std::uint64_t lba,
                                                        std::uint64_t count = 1) {
  Bytes out(count * device.sector_size());
  if (!is_given(device, lba, out)) return std::nullopt;
  return out;
}

}  // namespace nuvrat::device

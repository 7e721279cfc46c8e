#include "ntfs/lznt1.h"

#include <algorithm>

namespace nuvrat::ntfs {
namespace {

constexpr std::size_t chunk_bytes = 4096;

// How a back reference's 16 bits are divided depends on how much of the chunk is out already.
struct Division {
  unsigned length_bits;
  explicit Division(std::size_t done) : length_bits(12) {
    for (std::size_t n = done - 1; n >= 16; n >>= 1) --length_bits;
  }
  [[nodiscard]] std::size_t length(unsigned token) const {
    return (token & ((1u << length_bits) - 1)) + 3;
  }
  [[nodiscard]] std::size_t distance(unsigned token) const { return (token >> length_bits) + 1; }
};

bool unpack_chunk(ByteView in, ByteSpan out) {
  std::size_t at = 0;
  std::size_t done = 0;
  while (at < in.size() && done < out.size()) {
    const unsigned flags = in[at++];
    for (unsigned bit = 0; bit < 8 && at < in.size() && done < out.size(); ++bit) {
      if ((flags >> bit & 1) == 0) {
        out[done++] = in[at++];
        continue;
      }
      if (in.size() - at < 2 || done == 0) return false;
      const unsigned token = in[at] | static_cast<unsigned>(in[at + 1]) << 8;
      at += 2;
      const Division division(done);
      const std::size_t distance = division.distance(token);
      if (distance > done) return false;
      const std::size_t end = std::min(out.size(), done + division.length(token));
      for (; done < end; ++done) out[done] = out[done - distance];
    }
  }
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(done), out.end(), std::uint8_t{0});
  return true;
}

}  // namespace

bool unpack_lznt1(ByteView packed, ByteSpan out) {
  std::size_t at = 0;
  std::size_t done = 0;
  while (done < out.size()) {
    const ByteSpan chunk = out.subspan(done, std::min(chunk_bytes, out.size() - done));
    done += chunk.size();
    const unsigned head =
        packed.size() - at < 2 ? 0 : packed[at] | static_cast<unsigned>(packed[at + 1]) << 8;
    if (head == 0) {  // the packed bytes are at their end
      std::fill(chunk.begin(), chunk.end(), std::uint8_t{0});
      at = packed.size();
      continue;
    }
    at += 2;
    const std::size_t size = (head & 0xFFF) + 1;
    if (size > packed.size() - at) return false;
    const ByteView body = packed.subspan(at, size);
    at += size;
    if ((head & 0x8000) != 0) {
      if (!unpack_chunk(body, chunk)) return false;
    } else {
      const std::size_t n = std::min(body.size(), chunk.size());
      std::copy_n(body.begin(), n, chunk.begin());
      std::fill(chunk.begin() + static_cast<std::ptrdiff_t>(n), chunk.end(), std::uint8_t{0});
    }
  }
  return true;
}

}  // namespace nuvrat::ntfs

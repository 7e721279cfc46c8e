#include <cstring>

#include <openssl/rand.h>

#include <nuvrat/error.h>
#include <nuvrat/random.h>

namespace nuvrat {

std::uint64_t Random::next() {
  std::uint64_t value = 0;
  if (!state_) {
    if (RAND_bytes(reinterpret_cast<unsigned char*>(&value), sizeof value) != 1) {
      throw Error(ErrorCode::refused, "the operating system gave no random numbers");
    }
    return value;
  }
  // splitmix64: small, repeatable, good enough for demo content and identities of demo disks.
  *state_ += 0x9E3779B97F4A7C15u;
  value = *state_;
  value = (value ^ (value >> 30)) * 0xBF58476D1CE4E5B9u;
  value = (value ^ (value >> 27)) * 0x94D049BB133111EBu;
  return value ^ (value >> 31);
}

void Random::fill(ByteSpan bytes) {
  for (std::size_t at = 0; at < bytes.size(); at += 8) {
    const std::uint64_t value = next();
    std::memcpy(bytes.data() + at, &value, std::min<std::size_t>(8, bytes.size() - at));
  }
}

}  // namespace nuvrat

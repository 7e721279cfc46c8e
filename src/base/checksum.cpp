#include <new>

#include <fmt/core.h>
#include <openssl/evp.h>
#include <zlib.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

namespace nuvrat {

std::uint32_t crc32(ByteView bytes) {
  return static_cast<std::uint32_t>(::crc32_z(0, bytes.data(), bytes.size()));
}

std::string Digest::hex() const {
  constexpr std::string_view digits = "0123456789abcdef";
  std::string out(2 * bytes.size(), '0');
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    out[2 * i] = digits[bytes[i] >> 4];
    out[2 * i + 1] = digits[bytes[i] & 15];
  }
  return out;
}

Digest Digest::from_hex(std::string_view text) {
  const auto digit = [text](char c) -> std::uint8_t {
    if (c >= '0' && c <= '9') return static_cast<std::uint8_t>(c - '0');
    if (c >= 'a' && c <= 'f') return static_cast<std::uint8_t>(c - 'a' + 10);
    throw Error(ErrorCode::words, fmt::format("'{}' is not a SHA-256 in hexadecimal", text));
  };
  Digest digest;
  if (text.size() != 64) digit('?');
  for (std::size_t i = 0; i < 32; ++i) {
    digest.bytes[i] = static_cast<std::uint8_t>(digit(text[2 * i]) << 4 | digit(text[2 * i + 1]));
  }
  return digest;
}

struct Sha256::Context {
  EVP_MD_CTX* evp = EVP_MD_CTX_new();
  Context() = default;
  Context(const Context&) = delete;
  Context& operator=(const Context&) = delete;
  ~Context() { EVP_MD_CTX_free(evp); }
};

namespace {

// It fails only where there is no memory; a hash that was not made must not look like one.
void require_made(bool made) {
  if (!made) throw std::bad_alloc();
}

}  // namespace

Sha256::Sha256() : context_(std::make_unique<Context>()) {
  reset();
}
Sha256::~Sha256() = default;

void Sha256::reset() {
  // Looked up once: a search for each file costs more than hashing a small one.
  static EVP_MD* const algorithm = EVP_MD_fetch(nullptr, "SHA256", nullptr);
  require_made(context_->evp != nullptr && algorithm != nullptr &&
               EVP_DigestInit_ex2(context_->evp, algorithm, nullptr) == 1);
}
void Sha256::add(ByteView bytes) {
  require_made(EVP_DigestUpdate(context_->evp, bytes.data(), bytes.size()) == 1);
}
void Sha256::add(std::string_view text) {
  require_made(EVP_DigestUpdate(context_->evp, text.data(), text.size()) == 1);
}

Digest Sha256::finish() {
  Digest digest;
  require_made(EVP_DigestFinal_ex(context_->evp, digest.bytes.data(), nullptr) == 1);
  return digest;
}

Digest Sha256::of(ByteView bytes) {
  Sha256 sha;
  sha.add(bytes);
  return sha.finish();
}

}  // namespace nuvrat

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/guid.h>
#include <nuvrat/random.h>

namespace nuvrat {
namespace {

// Position on the disk of each byte of the text, which writes the first three fields big end first.
constexpr std::array<std::size_t, 16> text_order = {3, 2, 1,  0,  5,  4,  7,  6,
                                                    8, 9, 10, 11, 12, 13, 14, 15};

int hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

}  // namespace

Guid::Guid(std::string_view text) {
  const auto bad = [text] {
    return Error(ErrorCode::words, fmt::format("'{}' is not a GUID", text), {},
                 "Write it as 8-4-4-4-12 hexadecimal digits");
  };
  if (text.size() != 36) throw bad();
  std::size_t at = 0;
  for (const std::size_t position : text_order) {
    if (at == 8 || at == 13 || at == 18 || at == 23) {
      if (text[at] != '-') throw bad();
      ++at;
    }
    const int high = hex_digit(text[at]);
    const int low = hex_digit(text[at + 1]);
    if (high < 0 || low < 0) throw bad();
    bytes_[position] = static_cast<std::uint8_t>(high << 4 | low);
    at += 2;
  }
}

Guid::Guid(std::span<const std::uint8_t, 16> on_disk) {
  std::copy(on_disk.begin(), on_disk.end(), bytes_.begin());
}

Guid Guid::random(Random& random) {
  Guid guid;
  random.fill(guid.bytes_);
  guid.bytes_[7] = static_cast<std::uint8_t>((guid.bytes_[7] & 0x0F) | 0x40);
  guid.bytes_[8] = static_cast<std::uint8_t>((guid.bytes_[8] & 0x3F) | 0x80);
  return guid;
}

std::string Guid::text() const {
  constexpr std::string_view digits = "0123456789ABCDEF";
  std::string out;
  for (std::size_t i = 0; i < 16; ++i) {
    if (i == 4 || i == 6 || i == 8 || i == 10) out += '-';
    out += digits[bytes_[text_order[i]] >> 4];
    out += digits[bytes_[text_order[i]] & 15];
  }
  return out;
}

}  // namespace nuvrat

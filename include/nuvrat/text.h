#pragma once
// Names: UTF-16 as both file systems hold them, UTF-8 as people and files read them, OEM code pages
// as short names hold them.

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/bytes.h>

namespace NUVRAT_API nuvrat {

/// UTF-8 of a name. A surrogate without its partner becomes the three bytes that UTF-8 would give
/// it, so that `to_utf16` gives back the same units.
[[nodiscard]] std::string to_utf8(std::u16string_view text);
/// The way back; bytes that are not UTF-8 become U+FFFD.
[[nodiscard]] std::u16string to_utf16(std::string_view text);
/// Folded so that names that differ only by case are equal (Unicode's simple folding).
[[nodiscard]] std::u16string fold_case(std::u16string_view text);
/// True when every surrogate has its partner.
[[nodiscard]] bool is_well_formed(std::u16string_view text);

/// Four hexadecimal digits a unit, and back: names that no JSON string can hold. Digits that are
/// none give an empty text.
[[nodiscard]] std::string utf16_digits(std::u16string_view text);
[[nodiscard]] std::u16string from_utf16_digits(std::string_view digits);

/// Fit for a terminal or a JSON string: control characters and lone surrogates become U+FFFD.
[[nodiscard]] std::string printable(std::string_view utf8);
/// A path as one argument of a shell's command: in double quotes where it must be.
[[nodiscard]] std::string as_argument(std::string_view path);

/// The longest prefix of at most `units` UTF-16 units that ends on a whole character.
[[nodiscard]] std::u16string cut(std::u16string_view text, std::size_t units);

/// One OEM code page, single-byte or double-byte. Bytes that it doesn't map are carried as
/// U+F700 + byte (private use), and so survive a round trip. Any number of threads may use one.
class CodePage {
 public:
  /// Number as the trade writes it: 437, 850, 866, 932 …; throws Error (words) for an unknown one.
  explicit CodePage(unsigned number = 437);
  ~CodePage();
  CodePage(CodePage&&) noexcept;
  CodePage& operator=(CodePage&&) noexcept;

  [[nodiscard]] unsigned number() const { return number_; }
  [[nodiscard]] std::u16string decode(ByteView bytes) const;
  /// Empty when a character has no byte in this code page.
  [[nodiscard]] Bytes encode(std::u16string_view text) const;

 private:
  struct Converter;
  unsigned number_;
  std::unique_ptr<Converter> converter_;
};

/// "4.0 GiB", "512 bytes": three significant digits, binary units.
[[nodiscard]] std::string format_bytes(std::uint64_t bytes);
/// The other way: "512", "20KiB", "1.5GiB", and "20GB" for the units of a thousand. None for
/// anything else, for parts of a byte, and for 2^63 and more.
[[nodiscard]] std::optional<std::uint64_t> parse_bytes(std::string_view text);
/// The word that was most likely meant, at most two letters away; "" where none is near.
[[nodiscard]] std::string nearest_word(std::string_view word,
                                       const std::vector<std::string>& words);
/// "1,234,567".
[[nodiscard]] std::string format_count(std::uint64_t count);
/// "1 file", "2 files".
[[nodiscard]] std::string plural(std::uint64_t count, std::string_view one, std::string_view many);

}  // namespace nuvrat

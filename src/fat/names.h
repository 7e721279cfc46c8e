#pragma once
// Names in FAT directories: 8.3 in an OEM code page with case bits, long names in pieces.

#include <array>
#include <string>

#include <nuvrat/text.h>

#include "fat/records.h"

namespace nuvrat::fat {

/// Checksum of a short name that its long-name entries carry.
[[nodiscard]] std::uint8_t short_name_checksum(const std::array<std::uint8_t, 11>& name);

/// "README.TXT" from the 11 bytes; `cased` applies the case bits of DIR_NTRes.
[[nodiscard]] std::u16string short_name_text(const DirEntry& entry, const CodePage& page,
                                             bool cased);

/// A volume label: 11 bytes without the padding.
[[nodiscard]] std::string label_text(const std::array<std::uint8_t, 11>& label,
                                     const CodePage& page);

/// Whether a long name can be this: no character that FAT keeps for other things, no dot or blank
/// at the end, at most 255 units.
[[nodiscard]] bool allows_name(std::u16string_view name);
/// The name with '_' for each character that FAT keeps for other things, and for dots and blanks at
/// the end.
[[nodiscard]] std::u16string safe_name(std::u16string_view name);
/// The nearest label that FAT can spell: capitals, what the code page has, 11 bytes.
[[nodiscard]] std::string label_for(std::u16string_view label, const CodePage& page);
/// Its 11 bytes, padded, as entries and boot sectors hold them; zeros for none.
[[nodiscard]] std::array<std::uint8_t, 11> label_bytes(std::string_view label,
                                                       const CodePage& page);

/// Puts long-name entries together again.
class LongName {
 public:
  /// One entry in the order of the disk.
  void add(const LongEntry& entry);
  /// The name, if what was added is whole and belongs to this short name; starts anew.
  [[nodiscard]] std::u16string take(const std::array<std::uint8_t, 11>& short_name);
  /// True when entries were added that no short name took.
  [[nodiscard]] bool pending() const { return expected_ != none; }
  void clear() {
    begin_ = units_.size();
    expected_ = none;
    checksum_ = 0;
  }

 private:
  static constexpr unsigned none = 0xFF;
  std::array<char16_t, 260> units_{};  // twenty entries of 13, filled from the end
  std::size_t begin_ = units_.size();
  unsigned expected_ = none;  // the sequence number still to come; 0 when complete
  std::uint8_t checksum_ = 0;
};

}  // namespace nuvrat::fat

#pragma once
// $UpCase: how NTFS folds names, one UTF-16 unit to one unit.

#include <compare>
#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/bytes.h>

namespace nuvrat::ntfs {

class UpCase {
 public:
  /// Made from Unicode's simple mappings; none leads from beyond ASCII into it.
  UpCase();
  /// From the file's contents; units that it lacks stand for themselves.
  explicit UpCase(ByteView contents);

  [[nodiscard]] char16_t operator()(char16_t unit) const { return table_[unit]; }
  [[nodiscard]] std::u16string fold(std::u16string_view name) const;
  /// The order of names in an index.
  [[nodiscard]] std::strong_ordering compare(std::u16string_view a, std::u16string_view b) const;
  [[nodiscard]] Bytes contents() const;

 private:
  std::vector<char16_t> table_;
};

}  // namespace nuvrat::ntfs

// The table by which NTFS folds names.

#include "ntfs/upcase.h"

#include <map>

#include <doctest/doctest.h>

#include <nuvrat/text.h>

using namespace nuvrat;

TEST_CASE("upcase: names that FAT holds apart are apart on NTFS") {
  const ntfs::UpCase upcase;
  std::map<std::u16string, char16_t> first;
  unsigned pairs = 0;
  for (unsigned unit = 0; unit < 0x10000; ++unit) {
    const std::u16string name(1, static_cast<char16_t>(unit));
    const auto [it, is_new] = first.emplace(upcase.fold(name), name[0]);
    if (is_new) continue;
    ++pairs;
    CAPTURE(unit);
    CHECK(fold_case(name) == fold_case(std::u16string(1, it->second)));
  }
  CHECK(pairs > 600);
}

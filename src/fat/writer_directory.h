#pragma once
// Directories of a volume in the making: entries with short names that are unique in their folder.

#include <map>
#include <set>
#include <string>
#include <vector>

#include <nuvrat/fat_writer.h>
#include <nuvrat/text.h>

#include "fat/records.h"

namespace nuvrat {

class NewDirectory {
 public:
  NewDirectory(const CodePage& page, const Zone& zone) : page_(&page), zone_(&zone) {}

  /// Returns the index of the new item's 8.3 entry, for set_cluster.
  std::size_t add(std::u16string_view name, const FatFileInfo& info, bool directory,
                  std::uint64_t size);
  void add_label(const std::array<std::uint8_t, 11>& label);
  /// "." and "..": must come first.
  void add_dots(const FatFileInfo& info);
  void set_cluster(std::size_t index, std::uint32_t cluster);
  [[nodiscard]] Bytes bytes() const;
  [[nodiscard]] std::size_t entries() const { return entries_.size(); }

 private:
  std::array<std::uint8_t, 11> make_short(std::u16string_view name, bool& needs_long);
  void add_long(std::u16string_view name, std::uint8_t checksum);
  void fill_times(DirEntry& entry, const FatFileInfo& info) const;

  const CodePage* page_;
  const Zone* zone_;
  std::vector<std::array<std::uint8_t, 32>> entries_;
  std::set<std::array<std::uint8_t, 11>> used_;
  std::map<std::array<std::uint8_t, 11>, std::uint32_t> tails_;
};

}  // namespace nuvrat

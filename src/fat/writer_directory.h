#pragma once
// Directories of a volume in the making: entries with short names that are unique in their folder.

#include <array>
#include <map>
#include <set>
#include <string>
#include <unordered_set>
#include <vector>

#include <nuvrat/fat_writer.h>
#include <nuvrat/text.h>

#include "fat/records.h"

namespace nuvrat::fat {

class NewDirectory {
 public:
  using ShortName = std::array<std::uint8_t, 11>;
  NewDirectory(const CodePage& page, const Zone& zone) : page_(&page), zone_(&zone) {}

  /// An item of this name will be added: no other gets it as its short name. For all items before
  /// anything is kept.
  void announce(std::u16string_view name);
  /// Sets aside the short name that an item of this name brings along, or is by itself, so that
  /// none is made that takes it. For all items before the first is added. False where it brings one
  /// along that it can't keep: FAT can't spell it, or it is another's.
  bool keep(std::u16string_view name, std::u16string_view short_name);
  /// Returns the index of the new item's 8.3 entry, for set_cluster. The short name is the one that
  /// was kept, or one made by the published rule. A name beyond ASCII gets a long one, too: readers
  /// differ in their code pages. Not so what had none before (`short_only`), for it may have been
  /// read with the wrong one.
  std::size_t add(std::u16string_view name, const FatFileInfo& info, bool directory,
                  std::uint64_t size, bool short_only);
  void add_label(const std::array<std::uint8_t, 11>& label);
  /// "." and "..": must come first.
  void add_dots(const FatFileInfo& info);
  void set_cluster(std::size_t index, std::uint32_t cluster);
  [[nodiscard]] Bytes bytes() const;
  [[nodiscard]] std::size_t entries() const { return entries_.size(); }

 private:
  struct Short {
    ShortName bytes{};
    bool needs_long = false;
    std::uint8_t case_bits = 0;  // of DIR_NTRes
  };
  /// Whether the item of this name may have this short name; then it is taken.
  [[nodiscard]] bool take(const ShortName& bytes, std::u16string_view name);
  /// Whether a reader sees this name where there is no long one.
  [[nodiscard]] bool reads_as(const ShortName& bytes, std::uint8_t case_bits,
                              std::u16string_view name) const;
  [[nodiscard]] Short make_short(std::u16string_view name, bool short_only);
  void add_long(std::u16string_view name, std::uint8_t checksum);
  void fill_times(DirEntry& entry, const FatFileInfo& info) const;

  const CodePage* page_;
  const Zone* zone_;
  std::vector<std::array<std::uint8_t, 32>> entries_;
  std::unordered_set<std::u16string> announced_;  // folded
  std::set<ShortName> used_;
  std::map<std::u16string, ShortName, std::less<>> kept_;
  std::map<ShortName, std::uint32_t> tails_;
};

}  // namespace nuvrat::fat

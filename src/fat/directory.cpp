#include "fat/directory.h"

#include "base/record.h"
#include "fat/times.h"

namespace nuvrat::fat {
namespace {

DirectoryItem item_of(const DirEntry& entry, std::u16string long_name, std::uint32_t index,
                      const CodePage& page, const Zone& zone) {
  DirectoryItem item;
  item.short_name = short_name_text(entry, page, false);
  item.has_long = !long_name.empty();
  item.name = long_name.empty() ? short_name_text(entry, page, true) : std::move(long_name);
  item.index = index;
  item.cluster = entry.cluster();
  item.info.directory = (entry.DIR_Attr & attr_directory) != 0;
  item.info.attributes =
      entry.DIR_Attr & (attr_read_only | attr_hidden | attr_system | attr_archive);
  item.info.size = item.info.directory ? 0 : entry.DIR_FileSize.value();
  item.info.created = ticks_of(
      zone, {entry.DIR_CrtDate.value(), entry.DIR_CrtTime.value(), entry.DIR_CrtTimeTenth});
  item.info.modified = ticks_of(zone, {entry.DIR_WrtDate.value(), entry.DIR_WrtTime.value(), 0});
  item.info.accessed = ticks_of(zone, {entry.DIR_LstAccDate.value(), 0, 0});
  return item;
}

}  // namespace

DirectoryContents parse_directory(ByteView bytes, const CodePage& page, const Zone& zone) {
  DirectoryContents out;
  LongName long_name;
  for (std::uint32_t index = 0; (index + 1) * sizeof(DirEntry) <= bytes.size(); ++index) {
    const auto entry = load<DirEntry>(bytes, index * sizeof(DirEntry));
    const std::uint8_t first = entry.DIR_Name[0];
    if (first == 0x00) break;
    const bool is_long = first != entry_deleted && (entry.DIR_Attr & 0x3F) == attr_long;
    if (is_long) {
      if (long_name.pending() && (first & 0x40) != 0) out.orphans.push_back(index);
      long_name.add(load<LongEntry>(bytes, index * sizeof(DirEntry)));
      continue;
    }
    const bool plain = first != entry_deleted && (entry.DIR_Attr & attr_label) == 0;
    if (long_name.pending() && !plain) out.orphans.push_back(index);
    if (!plain) {
      long_name.clear();
      if (first != entry_deleted && !out.label) out.label = entry.DIR_Name;
      continue;
    }
    const bool had_long = long_name.pending();
    std::u16string name = long_name.take(entry.DIR_Name);
    if (had_long && name.empty()) out.orphans.push_back(index);
    if (first == '.' && (entry.DIR_Attr & attr_directory) != 0) {
      if (index == 0 && entry.DIR_Name[1] == ' ') out.own_cluster = entry.cluster();
      continue;
    }
    out.items.push_back(item_of(entry, std::move(name), index, page, zone));
  }
  return out;
}

}  // namespace nuvrat::fat

#include "fat/writer_directory.h"

#include <algorithm>

#include <fmt/format.h>
#include <unicode/uchar.h>

#include <nuvrat/error.h>
#include <nuvrat/file_tree.h>

#include "base/record.h"
#include "fat/names.h"

namespace nuvrat {
namespace {

constexpr std::string_view allowed_marks = "$%'-_@~`!(){}^#&";

struct FatStamp {
  std::uint16_t date = 0, time = 0;
  std::uint8_t tenths = 0;
};

FatStamp stamp_of(const Zone& zone, Ticks ticks) {
  if (ticks == 0) return {};
  const LocalTime t = zone.to_local(ticks);
  if (t.year < 1980 || t.year > 2107) return {};
  FatStamp out;
  out.date = static_cast<std::uint16_t>((t.year - 1980) << 9 | t.month << 5 | t.day);
  out.time = static_cast<std::uint16_t>(t.hour << 11 | t.minute << 5 | t.second / 2);
  out.tenths = static_cast<std::uint8_t>(t.second % 2 * 100 + t.centiseconds);
  return out;
}

// One part of an 8.3 name in capitals; sets `lossy` where something had to go.
Bytes short_part(std::u16string_view text, std::size_t room, const CodePage& page, bool& lossy) {
  Bytes out;
  for (const char16_t unit : text) {
    if (unit == u' ' || unit == u'.') {
      lossy = true;
      continue;
    }
    const auto upper = static_cast<char16_t>(u_toupper(unit));
    if (upper != unit) lossy = true;  // the case is kept by the long name
    Bytes bytes = page.encode(std::u16string_view(&upper, 1));
    const bool fine =
        !bytes.empty() && (unit >= 0x80 || std::isalnum(unit) != 0 ||
                           allowed_marks.find(static_cast<char>(unit)) != allowed_marks.npos);
    if (!fine) {
      bytes = {'_'};
      lossy = true;
    }
    if (out.size() + bytes.size() > room) {
      lossy = true;
      break;
    }
    out.insert(out.end(), bytes.begin(), bytes.end());
  }
  return out;
}

std::array<std::uint8_t, 11> join(const Bytes& base, const Bytes& extension) {
  std::array<std::uint8_t, 11> out;
  out.fill(' ');
  std::copy(base.begin(), base.end(), out.begin());
  std::copy(extension.begin(), extension.end(), out.begin() + 8);
  if (out[0] == 0xE5) out[0] = 0x05;
  return out;
}

}  // namespace

std::array<std::uint8_t, 11> NewDirectory::make_short(std::u16string_view name, bool& needs_long) {
  const std::size_t dot = name.rfind(u'.');
  const bool split = dot != name.npos && dot > 0;
  bool lossy = false;
  Bytes base = short_part(split ? name.substr(0, dot) : name, 8, *page_, lossy);
  const Bytes extension = split ? short_part(name.substr(dot + 1), 3, *page_, lossy) : Bytes{};
  if (base.empty()) {
    base = {'_'};
    lossy = true;
  }
  needs_long = lossy;
  auto candidate = join(base, extension);
  if (!lossy && used_.insert(candidate).second) return candidate;
  needs_long = true;
  const auto stem = candidate;
  for (std::uint32_t n = tails_[stem] + 1;; ++n) {
    const std::string tail = fmt::format("~{}", n);
    Bytes cut_base = base;
    cut_base.resize(std::min(base.size(), 8 - tail.size()));
    cut_base.insert(cut_base.end(), tail.begin(), tail.end());
    candidate = join(cut_base, extension);
    if (used_.insert(candidate).second) {
      tails_[stem] = n;
      return candidate;
    }
  }
}

void NewDirectory::add_long(std::u16string_view name, std::uint8_t checksum) {
  const std::size_t pieces = div_up<std::size_t>(name.size(), 13);
  for (std::size_t piece = pieces; piece > 0; --piece) {
    LongEntry entry{};
    entry.LDIR_Ord = static_cast<std::uint8_t>(piece | (piece == pieces ? 0x40 : 0));
    entry.LDIR_Attr = fat_attr_long;
    entry.LDIR_Chksum = checksum;
    std::size_t at = (piece - 1) * 13;
    const auto put = [&](auto& units) {
      for (auto& unit : units) {
        unit = at < name.size()    ? name[at]
               : at == name.size() ? std::uint16_t{0}
                                   : std::uint16_t{0xFFFF};
        ++at;
      }
    };
    put(entry.LDIR_Name1);
    put(entry.LDIR_Name2);
    put(entry.LDIR_Name3);
    std::array<std::uint8_t, 32> raw;
    store(entry, raw);
    entries_.push_back(raw);
  }
}

void NewDirectory::fill_times(DirEntry& entry, const FatFileInfo& info) const {
  const FatStamp created = stamp_of(*zone_, info.created);
  const FatStamp modified = stamp_of(*zone_, info.modified);
  entry.DIR_CrtDate = created.date;
  entry.DIR_CrtTime = created.time;
  entry.DIR_CrtTimeTenth = created.tenths;
  entry.DIR_WrtDate = modified.date;
  entry.DIR_WrtTime = modified.time;
  entry.DIR_LstAccDate = stamp_of(*zone_, info.accessed).date;
}

std::size_t NewDirectory::add(std::u16string_view name, const FatFileInfo& info, bool directory,
                              std::uint64_t size) {
  bool needs_long = false;
  DirEntry entry{};
  entry.DIR_Name = make_short(name, needs_long);
  if (needs_long) add_long(name, short_name_checksum(entry.DIR_Name));
  entry.DIR_Attr = static_cast<std::uint8_t>(
      directory ? (info.attributes & ~attr_archive) | fat_attr_directory : info.attributes);
  entry.DIR_FileSize = static_cast<std::uint32_t>(size);
  fill_times(entry, info);
  std::array<std::uint8_t, 32> raw;
  store(entry, raw);
  entries_.push_back(raw);
  return entries_.size() - 1;
}

void NewDirectory::add_label(const std::array<std::uint8_t, 11>& label) {
  DirEntry entry{};
  entry.DIR_Name = label;
  entry.DIR_Attr = fat_attr_label;
  std::array<std::uint8_t, 32> raw;
  store(entry, raw);
  entries_.push_back(raw);
}

void NewDirectory::add_dots(const FatFileInfo& info) {
  for (const std::size_t dots : {std::size_t{1}, std::size_t{2}}) {
    DirEntry entry{};
    entry.DIR_Name.fill(' ');
    std::fill_n(entry.DIR_Name.begin(), dots, std::uint8_t{'.'});
    entry.DIR_Attr = fat_attr_directory;
    fill_times(entry, info);
    std::array<std::uint8_t, 32> raw;
    store(entry, raw);
    entries_.push_back(raw);
  }
}

void NewDirectory::set_cluster(std::size_t index, std::uint32_t cluster) {
  auto entry = load<DirEntry>(entries_[index]);
  entry.DIR_FstClusHI = static_cast<std::uint16_t>(cluster >> 16);
  entry.DIR_FstClusLO = static_cast<std::uint16_t>(cluster & 0xFFFF);
  store(entry, entries_[index]);
}

Bytes NewDirectory::bytes() const {
  Bytes out;
  out.reserve(entries_.size() * 32);
  for (const auto& entry : entries_) out.insert(out.end(), entry.begin(), entry.end());
  return out;
}

}  // namespace nuvrat

#include "fat/writer_directory.h"

#include <algorithm>
#include <optional>

#include <fmt/core.h>
#include <unicode/uchar.h>

#include <nuvrat/error.h>
#include <nuvrat/file_tree.h>

#include "base/record.h"
#include "fat/names.h"
#include "fat/times.h"

namespace nuvrat::fat {
namespace {

constexpr std::string_view allowed_marks = "$%'-_@~`!(){}^#&";

// One part of an 8.3 name in capitals.
struct ShortPart {
  Bytes bytes;
  bool lossy = false;  // something had to go
  bool lower = false;  // it has small letters, and
  bool upper = false;  // it has capitals, or letters whose case no bit can tell
};

ShortPart short_part(std::u16string_view text, std::size_t room, const CodePage& page) {
  ShortPart out;
  for (const char16_t unit : text) {
    if (unit == u' ' || unit == u'.') {
      out.lossy = true;
      continue;
    }
    const auto capital = static_cast<char16_t>(u_toupper(unit));
    const bool letter = unit < 0x80 && std::isalpha(unit) != 0;
    out.lower |= capital != unit;
    const bool foreign = unit >= 0x80 && (capital != unit || u_tolower(unit) != unit);
    out.upper |= (letter && capital == unit) || foreign;
    Bytes bytes = page.encode(std::u16string_view(&capital, 1));
    const bool fine =
        !bytes.empty() && (unit >= 0x80 || std::isalnum(unit) != 0 ||
                           allowed_marks.find(static_cast<char>(unit)) != allowed_marks.npos);
    if (!fine) {
      bytes = {'_'};
      out.lossy = true;
    }
    if (out.bytes.size() + bytes.size() > room) {
      out.lossy = true;
      break;
    }
    out.bytes.insert(out.bytes.end(), bytes.begin(), bytes.end());
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

// A long name as it would be without a tail.
struct Basis {
  ShortPart base, extension;

  Basis(std::u16string_view name, const CodePage& page) {
    const std::size_t dot = name.rfind(u'.');
    const bool split = dot != name.npos && dot > 0;
    base = short_part(split ? name.substr(0, dot) : name, 8, page);
    if (split) extension = short_part(name.substr(dot + 1), 3, page);
    if (base.bytes.empty()) base = {{'_'}, true, false, true};
    if (split && extension.bytes.empty()) base.lossy = true;  // a dot at the end
  }
  [[nodiscard]] bool lossy() const { return base.lossy || extension.lossy; }
  [[nodiscard]] std::array<std::uint8_t, 11> joined() const {
    return join(base.bytes, extension.bytes);
  }
  // Capitals, or small letters in a whole part, which a bit can tell.
  [[nodiscard]] bool told_by_bits() const {
    return !lossy() && !(base.lower && base.upper) && !(extension.lower && extension.upper);
  }
  [[nodiscard]] std::uint8_t case_bits() const {
    const auto bit = [](const ShortPart& part, unsigned value) {
      return part.lower && !part.upper ? value : 0u;
    };
    return static_cast<std::uint8_t>(bit(base, 0x08) | bit(extension, 0x10));
  }
};

// The bytes of a short name that another volume gave, where FAT can hold exactly these: letters of
// other alphabets in either case, capitals of ASCII only.
std::optional<NewDirectory::ShortName> bytes_of_short(std::u16string_view name,
                                                      const CodePage& page) {
  const std::size_t dot = name.rfind(u'.');
  const std::u16string_view base = name.substr(0, dot);
  const std::u16string_view extension =
      dot == name.npos ? std::u16string_view() : name.substr(dot + 1);
  const auto encoded = [&page](std::u16string_view text) -> std::optional<Bytes> {
    Bytes out;
    for (const char16_t unit : text) {
      const bool fine = unit >= 0x80 || unit == u' ' || (unit >= u'A' && unit <= u'Z') ||
                        (unit >= u'0' && unit <= u'9') ||
                        allowed_marks.find(static_cast<char>(unit)) != allowed_marks.npos;
      const Bytes bytes = fine ? page.encode(std::u16string_view(&unit, 1)) : Bytes();
      if (bytes.empty()) return std::nullopt;
      out.insert(out.end(), bytes.begin(), bytes.end());
    }
    if (!out.empty() && (out.front() == ' ' || out.back() == ' ')) return std::nullopt;
    return out;
  };
  const auto first = encoded(base);
  const auto last = encoded(extension);
  if (!first || !last || first->empty() || first->size() > 8 || last->size() > 3)
    return std::nullopt;
  return join(*first, *last);
}

}  // namespace

void NewDirectory::announce(std::u16string_view name) {
  announced_.insert(fold_case(name));
}

bool NewDirectory::take(const ShortName& bytes, std::u16string_view name) {
  if (!announced_.empty()) {
    DirEntry entry{};
    entry.DIR_Name = bytes;
    const std::u16string text = fold_case(short_name_text(entry, *page_, false));
    if (announced_.count(text) > 0 && text != fold_case(name)) return false;
  }
  return used_.insert(bytes).second;
}

bool NewDirectory::keep(std::u16string_view name, std::u16string_view short_name) {
  const Basis basis(name, *page_);
  const auto bytes = !short_name.empty() ? bytes_of_short(short_name, *page_)
                     : basis.lossy()     ? std::nullopt
                                         : std::optional(basis.joined());
  const bool kept = bytes && take(*bytes, name);
  if (kept) kept_.emplace(name, *bytes);
  return kept || short_name.empty();
}

bool NewDirectory::reads_as(const ShortName& bytes, std::uint8_t case_bits,
                            std::u16string_view name) const {
  DirEntry entry{};
  entry.DIR_Name = bytes;
  entry.DIR_NTRes = case_bits;
  return short_name_text(entry, *page_, true) == name;
}

NewDirectory::Short NewDirectory::make_short(std::u16string_view name, bool short_only) {
  const Basis basis(name, *page_);
  auto candidate = basis.joined();
  const bool ascii =
      std::all_of(name.begin(), name.end(), [](char16_t unit) { return unit < 0x80; });
  const bool told = basis.told_by_bits() && (ascii || short_only);
  if (const auto kept = kept_.find(name); kept != kept_.end()) {
    // A name that had no long one needs none, where readers see the same letters.
    const bool same = (kept->second == candidate && told) ||
                      (short_only && reads_as(kept->second, basis.case_bits(), name));
    return {kept->second, !same, same ? basis.case_bits() : std::uint8_t{0}};
  }
  if (!basis.lossy() && take(candidate, name)) {
    return {candidate, !told, told ? basis.case_bits() : std::uint8_t{0}};
  }
  const auto stem = candidate;
  for (std::uint32_t n = tails_[stem] + 1;; ++n) {
    const std::string tail = fmt::format("~{}", n);
    Bytes cut_base = basis.base.bytes;
    cut_base.resize(std::min(cut_base.size(), 8 - tail.size()));
    cut_base.insert(cut_base.end(), tail.begin(), tail.end());
    candidate = join(cut_base, basis.extension.bytes);
    if (take(candidate, name)) {
      tails_[stem] = n;
      return {candidate, true, 0};
    }
  }
}

void NewDirectory::add_long(std::u16string_view name, std::uint8_t checksum) {
  const std::size_t pieces = div_up<std::size_t>(name.size(), 13);
  for (std::size_t piece = pieces; piece > 0; --piece) {
    LongEntry entry{};
    entry.LDIR_Ord = static_cast<std::uint8_t>(piece | (piece == pieces ? 0x40 : 0));
    entry.LDIR_Attr = attr_long;
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
  const Stamp created = stamp_of(*zone_, info.created);
  const Stamp modified = stamp_of(*zone_, info.modified);
  entry.DIR_CrtDate = created.date;
  entry.DIR_CrtTime = created.time;
  entry.DIR_CrtTimeTenth = created.tenths;
  entry.DIR_WrtDate = modified.date;
  entry.DIR_WrtTime = modified.time;
  entry.DIR_LstAccDate = stamp_of(*zone_, info.accessed).date;
}

std::size_t NewDirectory::add(std::u16string_view name, const FatFileInfo& info, bool directory,
                              std::uint64_t size, bool short_only) {
  DirEntry entry{};
  const Short made = make_short(name, short_only);
  entry.DIR_Name = made.bytes;
  entry.DIR_NTRes = made.case_bits;
  if (made.needs_long) add_long(name, short_name_checksum(entry.DIR_Name));
  entry.DIR_Attr = static_cast<std::uint8_t>(info.attributes | (directory ? attr_directory : 0u));
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
  entry.DIR_Attr = attr_label;
  std::array<std::uint8_t, 32> raw;
  store(entry, raw);
  entries_.push_back(raw);
}

void NewDirectory::add_dots(const FatFileInfo& info) {
  for (const std::size_t dots : {std::size_t{1}, std::size_t{2}}) {
    DirEntry entry{};
    entry.DIR_Name.fill(' ');
    std::fill_n(entry.DIR_Name.begin(), dots, std::uint8_t{'.'});
    entry.DIR_Attr = attr_directory;
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

}  // namespace nuvrat::fat

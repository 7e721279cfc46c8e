#include "foreign_ntfs.h"

#include <algorithm>
#include <array>

#include "disk_bytes.h"
#include "foreign_attributes.h"

namespace foreign {

using namespace nuvrat;
using disk_bytes::noise;
using disk_bytes::put;

namespace {

constexpr std::size_t block_bytes = 4096;
constexpr std::uint64_t root = 5;
enum : std::uint8_t { posix = 0, win32 = 1, dos = 2, both = 3 };

// Of ASCII and Latin-1 only: a table of its time.
char16_t upper(char16_t c) {
  if (c >= 'a' && c <= 'z') return static_cast<char16_t>(c - 32);
  if ((c >= 0xE0 && c <= 0xF6) || (c >= 0xF8 && c <= 0xFE)) return static_cast<char16_t>(c - 32);
  if (c == 0xFF) return 0x178;
  return c;
}
std::u16string folded(std::u16string name) {
  std::transform(name.begin(), name.end(), name.begin(), upper);
  return name;
}

// Protects a record or block: the update sequence from `at` on.
void protect(Bytes& bytes, std::size_t at) {
  put(bytes, at, 0x1234, 2);
  for (std::size_t i = 0; i < bytes.size() / 512; ++i) {
    for (std::size_t b = 0; b < 2; ++b) {
      bytes[at + 2 + 2 * i + b] = bytes[i * 512 + 510 + b];
      bytes[i * 512 + 510 + b] = bytes[at + b];
    }
  }
}

struct Name {
  std::uint64_t parent;
  std::u16string text;
  std::uint8_t space = both;
};

struct Record {
  bool in_use = true;
  bool directory = false;
  bool view = false;  // an index that is no folder's
  std::uint16_t sequence = 1;
  std::uint64_t base = 0;
  std::vector<Name> names{};
  std::uint32_t bits = 0x20;
  std::uint64_t size = 0, allocated = 0;
  std::vector<Bytes> attributes{};  // all but names
};

class Maker {
 public:
  Maker(const NtfsShape& shape, std::uint64_t bytes)
      : posix_names_(shape.posix_names),
        sector_(shape.sector_bytes),
        sectors_(bytes / shape.sector_bytes),
        record_bytes_(shape.record_bytes),
        cluster_(shape.cluster_bytes),
        used_((sectors_ - 1) * sector_ / cluster_) {}

  Volume make(std::uint64_t front) {
    const std::uint64_t start = front / sector_;
    place_system();
    add_system();
    add_files();
    write_folders();
    write_records();
    write_rest();
    Volume out;
    out.disk = std::make_unique<MemoryDevice>(start + sectors_, sector_);
    for (const auto& [lba, bytes] : sectors_of_) out.disk->write(start + lba, bytes);
    Bytes boot = boot_sector(start);
    out.disk->write(start, boot);
    out.disk->write(start + sectors_ - 1, boot);
    out.files = std::move(files_);
    return out;
  }

 private:
  [[nodiscard]] std::uint64_t clusters(std::uint64_t bytes) const {
    return (bytes + cluster_ - 1) / cluster_;
  }
  Extents take(std::uint64_t first, std::uint64_t count) {
    for (std::uint64_t c = first; c < first + count; ++c) used_[c] = true;
    return {{first, count}};
  }
  // The next clusters from the cursor on, a gap of one after each.
  Extents next(std::uint64_t bytes) {
    const std::uint64_t count = clusters(bytes);
    for (std::uint64_t c = cursor_; c < cursor_ + count; ++c) {
      if (used_.at(c)) cursor_ = c + 1;
    }
    const Extents out = take(cursor_, count);
    cursor_ += count + 1;
    return out;
  }
  void write_at(std::uint64_t byte, Bytes bytes) {
    bytes.resize((bytes.size() + sector_ - 1) / sector_ * sector_);
    sectors_of_[byte / sector_] = std::move(bytes);
  }
  void write(const Extents& extents, const Bytes& bytes) {
    std::size_t at = 0;
    for (const Extent& e : extents) {
      const std::size_t here = std::min<std::size_t>(e.count * cluster_, bytes.size() - at);
      const auto begin = bytes.begin() + static_cast<std::ptrdiff_t>(at);
      if (here > 0)
        write_at(e.lcn * cluster_, Bytes(begin, begin + static_cast<std::ptrdiff_t>(here)));
      at += here;
    }
  }

  // $MFT a third into the volume, its mirror in the middle, as is customary.
  void place_system() {
    boot_ = take(0, clusters(8192));
    mft_ = take(used_.size() / 3, clusters(mft_records * record_bytes_));
    mirror_ = take(used_.size() / 2, clusters(4 * record_bytes_));
    cursor_ = used_.size() / 3 + mft_[0].count + 1;
    log_ = next(2u << 20);
    write(log_, Bytes(2u << 20, 0xFF));
    bitmap_ = next((used_.size() + 63) / 64 * 8);
    mft_bitmap_ = next(8);
    cursor_ += 3;
  }

  Record& system(std::uint64_t number, const std::u16string& name, std::uint64_t size,
                 const Extents& extents, bool short_form = false) {
    Record& r = records_[number];
    r.sequence = static_cast<std::uint16_t>(number == 0 ? 1 : number);
    r.bits = 0x06;
    r.size = size;
    r.allocated = extents.empty() ? 0 : extents[0].count * cluster_;
    r.names = {{root, name, both}};
    r.attributes.push_back(information(0x06, short_form, 0));
    r.attributes.push_back(resident({0x50}, descriptor(0x001F01FF)));
    if (!extents.empty())
      r.attributes.push_back(non_resident({0x80}, extents, cluster_, {size, size}));
    return r;
  }

  void add_system() {
    system(0, u"$MFT", mft_records * record_bytes_, mft_, true)
        .attributes.push_back(non_resident({0xB0}, mft_bitmap_, cluster_, {8, 8}));
    system(1, u"$MFTMirr", mirror_[0].count * cluster_, mirror_);
    system(2, u"$LogFile", 2u << 20, log_, true);
    Record& volume = system(3, u"$Volume", 0, {}, true);
    volume.attributes.push_back(resident({0x40}, noise(16, 3)));
    volume.attributes.push_back(resident({0x60}, units_of(u"Pegel Nord")));
    volume.attributes.push_back(resident({0x70}, {0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0}));
    volume.attributes.push_back(resident({0x80}, {}));
    const Bytes definitions = attribute_definitions();
    const Extents of_definitions = next(definitions.size());
    write(of_definitions, definitions);
    system(4, u"$AttrDef", definitions.size(), of_definitions);
    Record& top = system(root, u".", 0, {}, true);
    top.directory = true;
    system(6, u"$Bitmap", (used_.size() + 63) / 64 * 8, bitmap_);
    system(7, u"$Boot", 8192, boot_, true);
    Record& bad = system(8, u"$BadClus", 0, {});
    bad.attributes.push_back(resident({0x80}, {}));
    Bytes holes =
        non_resident({0x80, u"$Bad"}, {{0, used_.size()}}, cluster_, {used_.size() * cluster_, 0});
    // One hole: a run without a place.
    const std::size_t runs = disk_bytes::little(holes, 32, 2);
    const unsigned width = holes[runs] & 0x0F;
    holes[runs] = static_cast<std::uint8_t>(width);
    std::fill(holes.begin() + static_cast<std::ptrdiff_t>(runs + 1 + width), holes.end(),
              std::uint8_t{0});
    bad.attributes.push_back(holes);
    add_secure();
    Bytes table;
    for (unsigned c = 0; c < 65536; ++c) append(table, upper(static_cast<char16_t>(c)), 2);
    const Extents of_table = next(table.size());
    write(of_table, table);
    Bytes info(32);
    put(info, 0, 32, 4);
    put(info, 16, 6, 4);
    system(10, u"$UpCase", table.size(), of_table)
        .attributes.push_back(resident({0x80, u"$Info"}, info));
    Record& extend = system(11, u"$Extend", 0, {});
    extend.directory = true;
    // In use, without a name; then eight that aren't.
    for (std::uint64_t n = 12; n < 24; ++n) {
      Record& r = system(n, u"", 0, {});
      r.names.clear();
      r.in_use = n < 16;
      r.attributes.push_back(resident({0x80}, {}));
    }
    // A journal of changes, whose beginning was given back: a hole, then what is left.
    const Extents of_journal = next(2 * cluster_);
    write(of_journal, noise(2 * cluster_, 8));
    Record& journal = records_[35];
    journal.sequence = 2;
    journal.bits = 0x206;
    journal.names = {{11, u"$UsnJrnl", both}};
    journal.attributes.push_back(information(0x206, false, 0x101));
    journal.attributes.push_back(sparse({0x80, u"$J"}, 48, of_journal[0], cluster_));
    journal.attributes.push_back(resident({0x80, u"$Max"}, noise(32, 9)));
    add_views(24, u"$Quota", {u"$O", u"$Q"});
    add_views(25, u"$ObjId", {u"$O"});
    add_views(26, u"$Reparse", {u"$R"});
  }

  // Blocks are counted in clusters, or in units of 512 bytes where these are larger.
  [[nodiscard]] std::uint64_t units_of_block() const {
    return block_bytes / (cluster_ <= block_bytes ? cluster_ : 512);
  }

  [[nodiscard]] Bytes empty_index(std::uint32_t collation) const {
    Bytes out;
    append(out, 0, 4);
    append(out, collation, 4);
    append(out, block_bytes, 4);
    append(out, units_of_block(), 4);
    for (const std::uint32_t v : {16u, 32u, 32u, 0u}) append(out, v, 4);
    append(out, 0, 8);
    append(out, 16, 2);
    append(out, 0, 2);
    append(out, 2, 4);
    return out;
  }

  void add_views(std::uint64_t number, const std::u16string& name,
                 const std::vector<std::u16string>& indexes) {
    Record& r = records_[number];
    r.view = true;
    r.bits = 0x26;
    r.names = {{11, name, both}};
    r.attributes.push_back(information(0x26, false, 0x101));
    for (const std::u16string& index : indexes)
      r.attributes.push_back(resident({0x90, index}, empty_index(index == u"$Q" ? 0x10 : 0x13)));
  }

  // Two descriptors, with their copies 256 KiB on.
  void add_secure() {
    Bytes stream;
    std::vector<std::array<std::uint64_t, 4>> all;  // hash, id, offset, length
    for (const std::uint32_t id : {0x100u, 0x101u}) {
      const Bytes bytes = descriptor(id == 0x100 ? 0x00120089 : 0x001F01FF);
      std::uint32_t hash = 0;
      for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4)
        hash =
            (hash << 3 | hash >> 29) + static_cast<std::uint32_t>(disk_bytes::little(bytes, i, 4));
      stream.resize((stream.size() + 15) / 16 * 16);
      all.push_back({hash, id, stream.size(), 20 + bytes.size()});
      append(stream, hash, 4);
      append(stream, id, 4);
      append(stream, all.back()[2], 8);
      append(stream, all.back()[3], 4);
      append(stream, bytes);
    }
    const Bytes once = stream;
    stream.resize(0x40000);
    append(stream, once);
    const Extents extents = next(stream.size());
    write(extents, stream);
    const auto index = [&](bool by_hash) {
      auto sorted = all;
      if (by_hash) std::sort(sorted.begin(), sorted.end());
      Bytes entries;
      for (const auto& [hash, id, offset, length] : sorted) {
        Bytes e;
        const std::size_t key = by_hash ? 8 : 4;
        append(e, 16 + key, 2);
        append(e, 20, 2);
        append(e, 0, 4);
        append(e, by_hash ? 48 : 40, 2);
        append(e, key, 2);
        append(e, 0, 4);
        if (by_hash) append(e, hash, 4);
        append(e, id, 4);
        append(e, hash, 4);
        append(e, id, 4);
        append(e, offset, 8);
        append(e, length, 4);
        if (by_hash) append(e, 0x00490049, 4);
        append(entries, e);
      }
      Bytes out = empty_index(by_hash ? 0x12 : 0x10);
      const Bytes last(out.end() - 16, out.end());
      out.resize(out.size() - 16);
      append(out, entries);
      append(out, last);
      put(out, 20, 32 + entries.size(), 4);
      put(out, 24, 32 + entries.size(), 4);
      return out;
    };
    Record& r = system(9, u"$Secure", 0, {});
    r.view = true;
    r.bits = 0x20000006;
    r.attributes.push_back(
        non_resident({0x80, u"$SDS"}, extents, cluster_, {stream.size(), stream.size()}));
    r.attributes.push_back(resident({0x90, u"$SDH"}, index(true)));
    r.attributes.push_back(resident({0x90, u"$SII"}, index(false)));
  }

  Record& file(std::uint64_t number, const std::vector<Name>& names, const Bytes& contents) {
    Record& r = records_[number];
    r.sequence = static_cast<std::uint16_t>(1 + number % 5);  // used before
    r.names = names;
    r.size = contents.size();
    // Of every other file: the form of version 1.2, with a descriptor of its own.
    const bool old = number % 2 == 0;
    r.attributes.push_back(information(0x20, old, 0x101));
    if (old) r.attributes.push_back(resident({0x50}, descriptor(0x001F01FF)));
    return r;
  }

  void add_files() {
    const auto folder = [&](std::uint64_t number, std::uint64_t parent,
                            const std::u16string& name) {
      Record& r = file(number, {{parent, name, both}}, {});
      r.directory = true;
    };
    folder(27, root, u"GAUGES");
    folder(28, 27, u"Öfter");
    // In the record; in two pieces, the second in front of the first; with a stream; linked.
    files_["GAUGES/small.txt"] = noise(90, 4);
    file(29, {{27, u"small.txt", both}}, files_["GAUGES/small.txt"])
        .attributes.push_back(resident({0x80}, files_["GAUGES/small.txt"]));
    const Bytes tides = noise(5 * cluster_ - 100, 5);
    files_["tides of a year.csv"] = tides;
    const Extents late = next(2 * cluster_);
    const Extents early = take(boot_[0].count + 2, 3);
    const Extents pieces = {late[0], early[0]};
    write(pieces, tides);
    Record& t =
        file(30, {{root, u"tides of a year.csv", win32}, {root, u"TIDESO~1.CSV", dos}}, tides);
    t.allocated = 5 * cluster_;
    t.attributes.push_back(non_resident({0x80}, pieces, cluster_, {tides.size(), tides.size()}));
    files_["tides of a year.csv:unit"] = {'c', 'm'};
    t.attributes.push_back(resident({0x80, u"unit"}, {'c', 'm'}));
    files_["GAUGES/ÄRMEL"] = {};
    file(31, {{27, u"ÄRMEL", both}, {28, u"twice", win32}}, {})
        .attributes.push_back(resident({0x80}, {}));
    files_["GAUGES/Öfter/twice"] = {};
    // Only the beginning was ever written.
    Bytes half = noise(2 * cluster_, 6);
    const Extents of_half = next(half.size());
    write(of_half, half);
    std::fill(half.begin() + 300, half.end(), std::uint8_t{0});
    files_["half"] = half;
    Record& h = file(32, {{root, u"half", posix}}, half);
    h.allocated = half.size();
    h.attributes.push_back(non_resident({0x80}, of_half, cluster_, {half.size(), 300}));
    add_listed();
    files_[":of all"] = {'x'};
    records_[root].attributes.push_back(resident({0x80, u"of all"}, {'x'}));
    add_transaction_log();
    if (posix_names_) add_posix_names();
  }

  // What systems with transactions keep on every volume: folders inside $Extend, a file with a
  // stream, and a note on what takes part.
  void add_transaction_log() {
    file(47, {{11, u"$RmMetadata", both}}, {}).directory = true;
    file(48, {{47, u"$TxfLog", both}}, {}).directory = true;
    file(49, {{47, u"$Txf", both}}, {}).directory = true;
    const Bytes tops(100, 0x54);
    Record& r = file(50, {{48, u"$Tops", both}}, tops);
    r.attributes.push_back(resident({0x80}, tops));
    const Bytes stream = noise(3 * cluster_, 12);
    const Extents extents = next(stream.size());
    write(extents, stream);
    r.attributes.push_back(
        non_resident({0x80, u"$T"}, extents, cluster_, {stream.size(), stream.size()}));
    const Bytes log = noise(2 * cluster_ + 9, 13);
    const Extents of_log = next(log.size());
    write(of_log, log);
    Record& l = file(51, {{48, u"$TxfLogContainer00000000000000000001", both}}, log);
    l.allocated = 3 * cluster_;
    l.attributes.push_back(non_resident({0x80}, of_log, cluster_, {log.size(), log.size()}));
    for (const std::uint64_t number : {root, std::uint64_t{27}, std::uint64_t{29}})
      records_[number].attributes.push_back(resident({0x100, u"$TXF_DATA"}, Bytes(56, 1)));
  }

  void add_posix_names() {
    file(40, {{root, u"Level|", posix}}, {}).directory = true;
    std::uint64_t number = 41;
    const auto add = [&](std::uint64_t parent, const std::u16string& name,
                         const std::string& path) {
      const Bytes contents = noise(60 + number, static_cast<unsigned>(number));
      file(number++, {{parent, name, posix}}, contents)
          .attributes.push_back(resident({0x80}, contents));
      files_[path] = contents;
    };
    add(root, u"wind|rain", "wind|rain");
    add(root, u"HALF", "HALF");  // beside "half"
    add(40, u"ebb?", "Level|/ebb?");
    add(40, u"ebb*", "Level|/ebb*");
    add(40, u"ebb_", "Level|/ebb_");
    add(40, u"end. ", "Level|/end. ");
  }

  // Its contents are described in another record, to which a list leads.
  void add_listed() {
    const Bytes sound = noise(3 * cluster_, 7);
    files_["GAUGES/Öfter/sound.raw"] = sound;
    const Extents extents = next(sound.size());
    write(extents, sound);
    Record& r = file(33, {{28, u"sound.raw", both}}, sound);
    r.allocated = sound.size();
    Record& more = records_[34];
    more.sequence = 9;
    more.base = 33 | std::uint64_t{r.sequence} << 48;
    more.attributes = {non_resident({0x80}, extents, cluster_, {sound.size(), sound.size()})};
    Bytes list;
    const auto entry = [&list](std::uint32_t type, std::uint64_t reference, unsigned id) {
      Bytes e;
      append(e, type, 4);
      append(e, 32, 2);
      append(e, 0, 1);
      append(e, 26, 1);
      append(e, 0, 8);
      append(e, reference, 8);
      append(e, id, 2);
      e.resize(32);
      list.insert(list.end(), e.begin(), e.end());
    };
    // Ids are given in the order in which attributes come: here information, list, name.
    entry(0x10, more.base, 0);
    entry(0x30, more.base, 2);
    entry(0x80, 34 | std::uint64_t{9} << 48, 0);
    r.attributes.push_back(resident({0x20}, list));
  }

  [[nodiscard]] std::uint64_t reference_to(std::uint64_t number) const {
    return number | std::uint64_t{records_.at(number).sequence} << 48;
  }

  [[nodiscard]] Bytes value_of(const Record& r, const Name& name) const {
    const std::uint32_t bits =
        r.bits | (r.directory ? 0x10000000u : 0u) | (r.view ? 0x20000000u : 0u);
    return name_value(reference_to(name.parent), name.text, name.space, r.allocated, r.size, bits);
  }

  // The root's entries are in a block, those of the others in their records.
  void write_folders() {
    for (auto& [folder, r] : records_) {
      if (!r.directory) continue;
      std::vector<std::tuple<std::u16string, std::u16string, Bytes>> entries;
      for (const auto& [number, one] : records_) {
        for (const Name& name : one.names) {
          if (name.parent != folder) continue;
          const Bytes key = value_of(one, name);
          Bytes e;
          append(e, reference_to(number), 8);
          append(e, (16 + key.size() + 7) / 8 * 8, 2);
          append(e, key.size(), 2);
          append(e, 0, 4);
          append(e, key);
          align(e);
          entries.emplace_back(folded(name.text), name.text, e);
        }
      }
      std::sort(entries.begin(), entries.end());
      Bytes listed;
      for (const auto& [key, name, bytes] : entries) append(listed, bytes);
      add_index(folder, r, listed);
    }
  }

  void add_index(std::uint64_t folder, Record& r, const Bytes& listed) {
    const bool large = folder == root;
    Bytes last(16);
    put(last, 8, large ? 24 : 16, 2);
    put(last, 12, large ? 3 : 2, 2);
    if (large) last.resize(24);
    Bytes value;
    append(value, 0x30, 4);
    append(value, 1, 4);
    append(value, block_bytes, 4);
    append(value, units_of_block(), 4);
    const std::size_t used = 16 + (large ? 0 : listed.size()) + last.size();
    for (const std::size_t v : {std::size_t{16}, used, used, std::size_t{large ? 1u : 0u}})
      append(value, v, 4);
    if (!large) append(value, listed);
    append(value, last);
    r.attributes.push_back(resident({0x90, u"$I30"}, value));
    if (!large) return;
    Bytes block(block_bytes);
    put(block, 0, 0x58444E49, 4);
    put(block, 4, 0x28, 2);
    put(block, 6, 9, 2);
    put(block, 24, 0x28, 4);
    put(block, 28, 0x28 + listed.size() + 16, 4);
    put(block, 32, block_bytes - 24, 4);
    std::copy(listed.begin(), listed.end(), block.begin() + 0x40);
    put(block, 0x40 + listed.size() + 8, 16, 2);
    put(block, 0x40 + listed.size() + 12, 2, 2);
    protect(block, 0x28);
    const Extents extents = next(block_bytes);
    write(extents, block);
    r.attributes.push_back(
        non_resident({0xA0, u"$I30"}, extents, cluster_, {block_bytes, block_bytes}));
    r.attributes.push_back(resident({0xB0, u"$I30"}, {1, 0, 0, 0, 0, 0, 0, 0}));
  }

  void write_records() {
    Bytes all, bits(8);
    for (std::uint64_t number = 0; number < mft_records; ++number) {
      const auto it = records_.find(number);
      Record r;
      r.in_use = false;
      if (it != records_.end()) r = it->second;
      for (const Name& name : r.names) r.attributes.push_back(resident({0x30}, value_of(r, name)));
      std::stable_sort(r.attributes.begin(), r.attributes.end(),
                       [](const Bytes& a, const Bytes& b) {
                         return disk_bytes::little(a, 0, 4) < disk_bytes::little(b, 0, 4);
                       });
      const std::size_t begin = (0x30 + 2 * (record_bytes_ / 512 + 1) + 7) / 8 * 8;
      Bytes out(begin);
      put(out, 0, 0x454C4946, 4);
      put(out, 4, 0x30, 2);
      put(out, 6, record_bytes_ / 512 + 1, 2);
      put(out, 16, r.sequence, 2);
      put(out, 18, r.names.size(), 2);
      put(out, 20, begin, 2);
      put(out, 22, (r.in_use ? 1u : 0u) | (r.directory ? 2u : 0u) | (r.view ? 8u : 0u), 2);
      put(out, 28, record_bytes_, 4);
      put(out, 32, r.base, 8);
      put(out, 40, r.attributes.size(), 2);
      put(out, 44, number, 4);
      for (std::size_t i = 0; i < r.attributes.size(); ++i) {
        put(r.attributes[i], 14, i, 2);
        append(out, r.attributes[i]);
      }
      append(out, 0xFFFFFFFF, 4);
      append(out, 0, 4);
      put(out, 24, out.size(), 4);
      out.resize(record_bytes_);
      protect(out, 0x30);
      append(all, out);
      if (r.in_use)
        bits[number / 8] = static_cast<std::uint8_t>(bits[number / 8] | 1u << number % 8);
    }
    write(mft_, all);
    write(mft_bitmap_, bits);
    all.resize(std::min<std::size_t>(all.size(), mirror_[0].count * cluster_));
    write(mirror_, all);
  }

  void write_rest() {
    Bytes bits((used_.size() + 63) / 64 * 8, 0xFF);
    for (std::size_t c = 0; c < used_.size(); ++c) {
      if (!used_[c]) bits[c / 8] = static_cast<std::uint8_t>(bits[c / 8] & ~(1u << c % 8));
    }
    write(bitmap_, bits);
  }

  [[nodiscard]] Bytes boot_sector(std::uint64_t start) const {
    Bytes out(sector_);
    const Bytes head = {0xEB, 0x52, 0x90, 'N', 'T', 'F', 'S', ' ', ' ', ' ', ' '};
    std::copy(head.begin(), head.end(), out.begin());
    put(out, 11, sector_, 2);
    put(out, 13, cluster_ / sector_, 1);
    put(out, 21, 0xF8, 1);
    put(out, 24, 63, 2);
    put(out, 26, 255, 2);
    put(out, 28, start, 4);
    put(out, 36, 0x00800080, 4);
    put(out, 40, sectors_ - 1, 8);
    put(out, 48, mft_[0].lcn, 8);
    put(out, 56, mirror_[0].lcn, 8);
    // In clusters, or as a power of two below zero.
    const unsigned of_record = record_bytes_ == 1024 ? 0xF6 : 0xF4;
    put(out, 64, record_bytes_ >= cluster_ ? record_bytes_ / cluster_ : of_record, 1);
    put(out, 68, block_bytes >= cluster_ ? block_bytes / cluster_ : 0xF4, 1);
    put(out, 72, 0x5EA5CA1E0DDBA115, 8);
    put(out, 510, 0xAA55, 2);
    return out;
  }

  static constexpr std::uint64_t mft_records = 64;
  bool posix_names_;
  std::uint64_t sector_, sectors_, record_bytes_, cluster_;
  std::vector<bool> used_;
  std::uint64_t cursor_ = 0;
  Extents boot_, mft_, mirror_, log_, bitmap_, mft_bitmap_;
  std::map<std::uint64_t, Record> records_;
  std::map<std::uint64_t, Bytes> sectors_of_;
  std::map<std::string, Bytes> files_;
};

}  // namespace

const std::vector<NtfsShape>& ntfs_shapes() {
  static const std::vector<NtfsShape> shapes = {
      {512, 512, 1024},    {1024, 512, 1024},  {4096, 512, 1024},
      {65536, 512, 1024},  {2048, 512, 4096},  {4096, 4096, 4096},
      {16384, 4096, 4096}, {4096, 4096, 1024}, {4096, 512, 1024, true}};
  return shapes;
}

Volume ntfs(const NtfsShape& shape, std::uint64_t bytes, std::uint64_t start) {
  return Maker(shape, bytes).make(start);
}

}  // namespace foreign

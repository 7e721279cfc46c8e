#pragma once
// NTFS volumes changed byte by byte, by the format's description.

#include <functional>
#include <map>

#include <fmt/core.h>

#include "support.h"
#include "volumes.h"

namespace support {

using namespace nuvrat;
using volumes::noise;

// An NTFS volume that was a FAT one, and hands on its records.
struct NtfsBytes {
  std::unique_ptr<MemoryDevice> disk;
  std::uint64_t spc = 0, mft = 0, mirror = 0;

  static void usual_files(FatWriter& writer) {
    writer.add_file("A.BIN", noise(5 * 512, 1));
    writer.add_file("a long name for one file.text", noise(700, 3));
    writer.add_file("UNITS.BIN", noise(20 * 512, 6));
    writer.add_directory("D");
    for (int i = 0; i < 200; ++i) writer.add_file(fmt::format("D/tide number {}.csv", i), {});
    FatFileInfo scattered;
    scattered.placement = Placement::scattered;
    writer.add_file("PIECES.BIN", noise(512 * 400, 5), scattered);
  }

  explicit NtfsBytes(const std::function<void(FatWriter&)>& fill = usual_files,
                     std::uint64_t sectors = 120000)
      : disk(support::disk(sectors, 512)) {
    FatFormat format;
    format.cluster_sectors = 1;
    format.label = "BOJE";
    volumes::align_data(format, sectors, 512, true);
    FatWriter writer(*disk, format);
    fill(writer);
    writer.finish();
    const support::Folder folder;
    QuietProgress quiet;
    Random random(1);
    ReadOptions read;
    read.zone = Zone();
    JobOptions options;
    options.read = read;
    options.case_folder = folder / "case";
    const Assessment a = assess(*disk, {parse_goal("volume=ntfs")}, read, random);
    REQUIRE(run_job(*disk, a, options, quiet).sound());
    find_records();
  }
  // One that is there.
  explicit NtfsBytes(std::unique_ptr<MemoryDevice> volume) : disk(std::move(volume)) {
    find_records();
  }

  void find_records() {
    const Bytes boot = disk->read(0);
    spc = boot[13];
    mft = little(boot, 0x30, 8) * spc;
    mirror = little(boot, 0x38, 8) * spc;
  }

  [[nodiscard]] Bytes record(std::uint64_t number) const {
    Bytes out = disk->read(mft + number * 2, 2);
    for (std::size_t i = 0; i < 2; ++i) {
      out[i * 512 + 510] = out[0x32 + 2 * i];
      out[i * 512 + 511] = out[0x33 + 2 * i];
    }
    return out;
  }
  static void protect(Bytes& bytes, std::size_t array) {
    for (std::size_t i = 0; i < bytes.size() / 512; ++i) {
      for (std::size_t k = 0; k < 2; ++k) {
        bytes[array + 2 + 2 * i + k] = bytes[i * 512 + 510 + k];
        bytes[i * 512 + 510 + k] = bytes[array + k];
      }
    }
  }
  void set_record(std::uint64_t number, Bytes bytes) const {
    protect(bytes, 0x30);
    disk->write(mft + number * 2, bytes);
    if (number < 4) disk->write(mirror + number * 2, bytes);
  }
  void change(std::uint64_t number, std::size_t at, std::uint64_t value, unsigned width) const {
    Bytes bytes = record(number);
    put(bytes, at, value, width);
    set_record(number, bytes);
  }
  // Puts bytes in the place of an attribute, or in front of it when `length` is 0.
  void replace(std::uint64_t number, std::size_t at, std::size_t length, const Bytes& with) const {
    Bytes bytes = record(number);
    const std::size_t used = little(bytes, 24, 4);
    const auto begin = bytes.begin();
    Bytes tail(begin + static_cast<long>(at + length), begin + static_cast<long>(used));
    REQUIRE(at + with.size() + tail.size() <= bytes.size());
    std::copy(with.begin(), with.end(), bytes.begin() + static_cast<long>(at));
    std::copy(tail.begin(), tail.end(), bytes.begin() + static_cast<long>(at + with.size()));
    put(bytes, 24, at + with.size() + tail.size(), 4);
    set_record(number, bytes);
  }
  // Where the first attribute of a type begins in a record; `which` skips earlier ones.
  [[nodiscard]] std::size_t attribute(std::uint64_t number, std::uint64_t type,
                                      int which = 0) const {
    const Bytes bytes = record(number);
    for (std::size_t at = little(bytes, 20, 2); little(bytes, at, 4) != 0xFFFFFFFF;
         at += little(bytes, at + 4, 4)) {
      if (little(bytes, at, 4) == type && which-- == 0) return at;
    }
    FAIL("record " << number << " has no attribute " << type);
    return 0;
  }
  // The first sector of a non-resident attribute.
  [[nodiscard]] std::uint64_t sector_of(std::uint64_t number, std::uint64_t type) const {
    const Bytes bytes = record(number);
    const std::size_t at = attribute(number, type);
    const std::size_t runs = at + little(bytes, at + 32, 2);
    const auto length = static_cast<unsigned>(bytes[runs] & 15);
    const auto width = static_cast<unsigned>(bytes[runs] >> 4);
    return little(bytes, runs + 1 + length, width) * spc;
  }
  // What follows the first so many clusters of $MFT is copied to the volume's end.
  void split_mft(std::uint64_t clusters) const {
    const std::uint64_t count = little(record(0), attribute(0, 0x80) + 24, 8) + 1;
    const std::uint64_t place = disk->sectors() - 40 - count;
    for (std::uint64_t i = clusters; i < count; ++i) {
      disk->write(place + i, disk->read(mft + i));
      disk->write(mft + i, Bytes(512, 0x55));
    }
    const std::size_t at = attribute(0, 0x80) + 64;
    Bytes pairs = {0x31, static_cast<std::uint8_t>(clusters)};
    const std::uint64_t delta = place + clusters - mft;
    for (unsigned i = 0; i < 3; ++i) pairs.push_back(static_cast<std::uint8_t>(mft >> 8 * i));
    pairs.push_back(0x32);
    for (unsigned i = 0; i < 2; ++i)
      pairs.push_back(static_cast<std::uint8_t>((count - clusters) >> 8 * i));
    for (unsigned i = 0; i < 3; ++i) pairs.push_back(static_cast<std::uint8_t>(delta >> 8 * i));
    pairs.push_back(0);
    // Into the room of the attribute, which grows by a step of eight.
    Bytes bytes = record(0);
    const std::size_t length = little(bytes, at - 64 + 4, 4);
    Bytes whole(bytes.begin() + static_cast<long>(at - 64), bytes.begin() + static_cast<long>(at));
    whole.insert(whole.end(), pairs.begin(), pairs.end());
    whole.resize((whole.size() + 7) / 8 * 8);
    put(whole, 4, whole.size(), 4);
    replace(0, at - 64, length, whole);
  }
  // Free clusters become bad ones: of $BadClus, and in use. Ascending.
  void mark_bad(const std::vector<std::uint64_t>& clusters) const {
    const std::size_t at = attribute(8, 0x80, 1);
    const Bytes before = record(8);
    const std::uint64_t total = little(before, at + 24, 8) + 1;
    Bytes stream(before.begin() + static_cast<long>(at),
                 before.begin() + static_cast<long>(at + little(before, at + 32, 2)));
    const auto bytes_of = [](std::uint64_t value) {  // as few as hold it with its sign
      Bytes out;
      do {
        out.push_back(static_cast<std::uint8_t>(value));
        value >>= 8;
      } while (value != 0);
      if (out.back() > 127) out.push_back(0);
      return out;
    };
    const auto run = [&](std::uint64_t length, const Bytes& offset) {
      const Bytes count = bytes_of(length);
      stream.push_back(static_cast<std::uint8_t>(offset.size() << 4 | count.size()));
      stream.insert(stream.end(), count.begin(), count.end());
      stream.insert(stream.end(), offset.begin(), offset.end());
    };
    std::uint64_t next = 0, last = 0;
    for (const std::uint64_t lcn : clusters) {
      run(lcn - next, {});  // a hole, then one cluster
      run(1, bytes_of(lcn - last));
      last = lcn;
      next = lcn + 1;
      const std::uint64_t lba = sector_of(6, 0x80) + lcn / 4096;
      Bytes bits = disk->read(lba);
      bits[lcn % 4096 / 8] |= static_cast<std::uint8_t>(1u << lcn % 8);
      disk->write(lba, bits);
    }
    run(total - next, {});
    stream.push_back(0);
    stream.resize((stream.size() + 7) / 8 * 8);
    put(stream, 4, stream.size(), 4);
    replace(8, at, little(before, at + 4, 4), stream);
  }
  // The record of a name in the root folder.
  [[nodiscard]] std::uint64_t record_of(const std::u16string& name) const {
    for (std::uint64_t number = 64; number < 400; ++number) {
      const Bytes bytes = record(number);
      if (bytes[0] != 'F' || (bytes[22] & 1) == 0 || little(bytes, 32, 8) != 0) continue;
      const std::size_t at = attribute(number, 0x30);
      const std::size_t value = at + little(bytes, at + 20, 2);
      std::u16string here;
      for (unsigned i = 0; i < bytes[value + 64]; ++i)
        here.push_back(static_cast<char16_t>(little(bytes, value + 66 + 2 * i, 2)));
      if (here == name) return number;
    }
    FAIL("no such name");
    return 0;
  }
  // A block of folder D's index, with its places put back.
  void change_block(const std::function<void(Bytes&)>& change) const {
    const std::uint64_t lba = sector_of(record_of(u"D"), 0xA0);
    Bytes block = disk->read(lba, 8);
    for (std::size_t i = 0; i < 8; ++i) {
      block[i * 512 + 510] = block[0x2A + 2 * i];
      block[i * 512 + 511] = block[0x2B + 2 * i];
    }
    change(block);
    protect(block, 0x28);
    disk->write(lba, block);
  }
};

/// The id that the next attribute of a record gets: behind all that these tests use.
inline void put_next_id(const NtfsBytes& v, std::uint64_t number) {
  v.change(number, 40, 30, 2);
}

/// An attribute whose value lies in the record.
inline Bytes resident(std::uint64_t type, unsigned id, const std::string& name,
                      const Bytes& value) {
  const std::size_t value_at = (24 + 2 * name.size() + 7) / 8 * 8;
  Bytes out((value_at + value.size() + 7) / 8 * 8);
  put(out, 0, type, 4);
  put(out, 4, out.size(), 4);
  put(out, 9, name.size(), 1);
  put(out, 10, 24, 2);
  put(out, 14, id, 2);
  put(out, 16, value.size(), 4);
  put(out, 20, value_at, 2);
  for (std::size_t i = 0; i < name.size(); ++i)
    put(out, 24 + 2 * i, static_cast<unsigned char>(name[i]), 2);
  std::copy(value.begin(), value.end(), out.begin() + static_cast<long>(value_at));
  return out;
}

/// A DATA attribute of the form that compressed and sparse files have.
inline Bytes data_in_units(std::uint64_t flags, unsigned unit, std::uint64_t clusters,
                           std::uint64_t size, std::uint64_t real, const Bytes& pairs) {
  Bytes out((72 + pairs.size() + 7) / 8 * 8);
  put(out, 0, 0x80, 4);
  put(out, 4, out.size(), 4);
  put(out, 8, 1, 1);
  put(out, 10, 72, 2);  // no name
  put(out, 12, flags, 2);
  put(out, 14, 20, 2);
  put(out, 24, clusters - 1, 8);
  put(out, 32, 72, 2);
  put(out, 34, unit, 1);
  put(out, 40, clusters * 512, 8);
  put(out, 48, size, 8);
  put(out, 56, size, 8);
  put(out, 64, real * 512, 8);
  std::copy(pairs.begin(), pairs.end(), out.begin() + 72);
  return out;
}

inline constexpr const char* rare_object_id = "5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a5a";

/// What files hold that no FAT volume ever had: compressed units, holes, a named stream, extended
/// attributes, an object id. Gives the contents by path.
inline std::map<std::string, Bytes> make_rare_contents(NtfsBytes& v) {
  std::map<std::string, Bytes> out;
  // Three units of 16 clusters: packed into one cluster, nothing but a hole, and as they are.
  const std::uint64_t units = v.record_of(u"UNITS.BIN");
  const std::uint64_t lba = v.sector_of(units, 0x80);
  const std::uint64_t lcn = lba / v.spc;
  Bytes packed = {0x03, 0xB0, 0x02, 0x00, 0xFC, 0x0F,                     // 4,096 zeros
                  0x05, 0xB0, 0x08, 'a',  'b',  'c',  0xFA, 0x2F, 0, 0};  // abcabc…
  packed.resize(512);
  v.disk->write(lba, packed);
  Bytes pairs = {0x31, 1};
  const auto add = [&pairs](std::uint64_t value, unsigned width) {
    for (unsigned i = 0; i < width; ++i) pairs.push_back(static_cast<std::uint8_t>(value >> 8 * i));
  };
  add(lcn, 3);
  add(0x1F01, 2);    // a hole of 31: the rest of the first unit and all of the second
  add(0x011011, 3);  // 16 clusters, one further on than the first run began
  add(0, 1);
  const std::uint64_t size = 24476;
  v.replace(units, v.attribute(units, 0x80), 72, data_in_units(1, 4, 48, size, 17, pairs));
  put_next_id(v, units);
  v.change(units, v.attribute(units, 0x10) + 24 + 32, 0x20 | 0x800, 4);
  Bytes& whole = out["UNITS.BIN"];
  whole.assign(16384, 0);
  for (std::size_t i = 0; i < 4096; ++i) whole[4096 + i] = static_cast<std::uint8_t>("abc"[i % 3]);
  const Bytes raw = v.disk->read(lba + 1, 16);
  whole.insert(whole.end(), raw.begin(), raw.begin() + 8092);

  // Two clusters, a hole of three.
  const std::uint64_t sparse = v.record_of(u"A.BIN");
  const std::uint64_t first = v.sector_of(sparse, 0x80);
  pairs = {0x31, 2};
  add(first / v.spc, 3);
  add(0x0301, 2);
  add(0, 1);
  v.replace(sparse, v.attribute(sparse, 0x80), 72, data_in_units(0x8000, 0, 5, 2560, 2, pairs));
  put_next_id(v, sparse);
  v.change(sparse, v.attribute(sparse, 0x10) + 24 + 32, 0x20 | 0x200, 4);
  out["A.BIN"] = v.disk->read(first, 2);
  out["A.BIN"].resize(2560);

  // A stream with a name, one extended attribute (its length, the name TIDE, the value 7) and an
  // object id, beside the contents.
  const std::uint64_t named = v.record_of(u"a long name for one file.text");
  Bytes ea(16);
  put(ea, 0, 16, 4);
  put(ea, 5, 4, 1);
  put(ea, 6, 1, 2);
  for (unsigned i = 0; i < 4; ++i) put(ea, 8 + i, static_cast<unsigned>("TIDE"[i]), 1);
  put(ea, 13, 7, 1);
  Bytes ea_info(8);
  put(ea_info, 0, 16, 2);
  put(ea_info, 4, 16, 4);
  Bytes tail;
  for (const Bytes& a : {resident(0x80, 21, "note", {'t', 'i', 'd', 'e'}),
                         resident(0xD0, 22, "", ea_info), resident(0xE0, 23, "", ea)})
    tail.insert(tail.end(), a.begin(), a.end());
  v.replace(named, v.attribute(named, 0x80) + 72, 0, tail);
  v.replace(named, v.attribute(named, 0x80), 0, resident(0x40, 24, "", Bytes(16, 0x5A)));
  put_next_id(v, named);
  out["a long name for one file.text:note"] = {'t', 'i', 'd', 'e'};
  out["a long name for one file.text:$EA"] = ea;

  // A stream of the root folder.
  v.replace(5, v.attribute(5, 0x90), 0, resident(0x80, 21, "of the volume", {'e', 'b', 'b'}));
  put_next_id(v, 5);
  out[":of the volume"] = {'e', 'b', 'b'};
  return out;
}

}  // namespace support

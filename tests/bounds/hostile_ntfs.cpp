#include <functional>

#include "hostile.h"
#include "ntfs_bytes.h"

namespace bounds {

using namespace nuvrat;
using support::NtfsBytes;
using support::put;

namespace {

constexpr std::uint64_t first_record = 64;  // of the root folder's first entry
constexpr std::uint64_t sequence = std::uint64_t{1} << 48;

// A volume whose root folder holds what `fill` adds; record 64 is the first of it, and so on.
NtfsBytes volume(unsigned n, const std::function<void(FatWriter&)>& fill) {
  return NtfsBytes(fill, 160000 + std::uint64_t{n} * 24);
}

std::string number_name(unsigned i) {
  return fmt::format("N{:07}", i);
}

// A folder with n files, then n other things in the root.
void folder_and(FatWriter& writer, unsigned n, bool folders) {
  writer.add_directory("D");
  for (unsigned i = 0; i < n; ++i) {
    if (folders) {
      writer.add_directory(number_name(i));
    } else {
      writer.add_file(number_name(i), volumes::noise(100, 1));
    }
  }
  for (unsigned i = 0; i < n; ++i) writer.add_file("D/" + number_name(i), {});
}

// Bytes of the attributes of a record from one type to the next one that is wanted no more.
Bytes attributes(const NtfsBytes& v, std::uint64_t number, std::uint64_t from) {
  const Bytes record = v.record(number);
  const std::size_t begin = v.attribute(number, from);
  const std::size_t end = support::little(record, 24, 4) - 8;
  return {record.begin() + static_cast<long>(begin), record.begin() + static_cast<long>(end)};
}

// Every entry of a folder's blocks, at its place in the block.
void each_entry(const NtfsBytes& v, std::uint64_t folder,
                const std::function<void(Bytes& block, std::size_t at)>& change) {
  const Bytes record = v.record(folder);
  const std::size_t at = v.attribute(folder, 0xA0);
  const std::uint64_t blocks = support::little(record, at + 48, 8) / 4096;
  const std::uint64_t lba = v.sector_of(folder, 0xA0);
  for (std::uint64_t b = 0; b < blocks; ++b) {
    Bytes block = v.disk->read(lba + b * 8, 8);
    for (std::size_t i = 0; i < 8; ++i) {
      block[i * 512 + 510] = block[0x2A + 2 * i];
      block[i * 512 + 511] = block[0x2B + 2 * i];
    }
    for (std::size_t e = 24 + support::little(block, 24, 4); (block[e + 12] & 2) == 0;
         e += support::little(block, e + 8, 2))
      change(block, e);
    NtfsBytes::protect(block, 0x28);
    v.disk->write(lba + b * 8, block);
  }
}

// n folders whose indexes lie in the blocks of one.
std::unique_ptr<MemoryDevice> shared_index(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) { folder_and(w, n, true); });
  const Bytes index = attributes(v, first_record, 0x90);
  for (unsigned i = 1; i <= n; ++i) {
    const std::uint64_t number = first_record + i;
    const std::size_t at = v.attribute(number, 0x90);
    const std::size_t old = attributes(v, number, 0x90).size();
    v.replace(number, at, old, index);
  }
  return std::move(v.disk);
}

// One file in n pieces with n names.
std::unique_ptr<MemoryDevice> many_links(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) {
    w.add_directory("D");
    FatFileInfo scattered;
    scattered.placement = Placement::scattered;
    w.add_file("PIECES", volumes::noise(std::size_t{n} * 512, 5), scattered);
    for (unsigned i = 0; i < n; ++i) w.add_file("D/" + number_name(i), {});
  });
  each_entry(v, first_record, [](Bytes& block, std::size_t at) {
    put(block, at, (first_record + 1) | sequence, 8);
  });
  return std::move(v.disk);
}

// Short names whose references all fall into one place of a table that takes them as they are.
std::unique_ptr<MemoryDevice> colliding_references(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) { folder_and(w, n, false); });
  std::uint64_t next = 1;
  each_entry(v, first_record, [&next](Bytes& block, std::size_t at) {
    put(block, at, next++ * 5087 * 20753, 8);
    block[at + 16 + 65] = 2;  // a short name
  });
  return std::move(v.disk);
}

// A folder of n blocks, each of which only leads to the next.
std::unique_ptr<MemoryDevice> deep_index(unsigned n) {
  Bytes blocks(std::size_t{n} * 4096);
  for (std::size_t i = 0; i < n; ++i) {
    Bytes block(4096);
    put(block, 0, 0x58444E49, 4);
    put(block, 4, 0x28, 2);
    put(block, 6, 9, 2);
    put(block, 16, i * 8, 8);
    put(block, 24, 0x28, 4);
    const bool last = i + 1 == n;
    put(block, 28, 0x28 + (last ? 16 : 24), 4);
    put(block, 32, 4096 - 24, 4);
    put(block, 36, last ? 0 : 1, 1);
    put(block, 0x40 + 8, last ? 16 : 24, 2);
    put(block, 0x40 + 12, last ? 2 : 3, 2);
    if (!last) put(block, 0x50, (i + 1) * 8, 8);
    put(block, 0x28, 1, 2);
    NtfsBytes::protect(block, 0x28);
    std::copy(block.begin(), block.end(), blocks.begin() + static_cast<long>(i * 4096));
  }
  NtfsBytes v = volume(n, [&](FatWriter& w) {
    w.add_directory("D");
    w.add_file("BLOCKS", blocks);
    for (int i = 0; i < 100; ++i) w.add_file("D/" + number_name(static_cast<unsigned>(i)), {});
  });
  // The folder's blocks are that file's: the runs of one become those of the other.
  const std::size_t at = v.attribute(first_record, 0xA0);
  const Bytes record = v.record(first_record);
  const std::size_t size = support::little(record, at + 4, 4);
  const std::size_t runs = support::little(record, at + 32, 2);
  const std::size_t from = v.attribute(first_record + 1, 0x80);
  const Bytes file = v.record(first_record + 1);
  const std::size_t file_runs = support::little(file, from + 32, 2);
  const std::size_t length = support::little(file, from + 4, 4) - file_runs;
  Bytes with(record.begin() + static_cast<long>(at), record.begin() + static_cast<long>(at + runs));
  with.insert(with.end(), file.begin() + static_cast<long>(from + file_runs),
              file.begin() + static_cast<long>(from + file_runs + length));
  with.resize((with.size() + 7) / 8 * 8);
  put(with, 4, with.size(), 4);
  put(with, 24, std::uint64_t{n} * 8 - 1, 8);
  for (const std::size_t field : {40, 48, 56}) put(with, field, blocks.size(), 8);
  v.replace(first_record, at, size, with);
  const std::size_t root = v.attribute(first_record, 0x90);
  v.change(first_record, root + support::little(v.record(first_record), root + 20, 2) + 48, 0, 8);
  return std::move(v.disk);
}

// Folders whose parents are the next records: the way up from each is as long as there are any.
std::unique_ptr<MemoryDevice> parents_ahead(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) {
    for (unsigned i = 0; i < n; ++i) w.add_directory(number_name(i));
  });
  for (unsigned i = 0; i + 1 < n; ++i) {
    const std::uint64_t number = first_record + i;
    const std::size_t at = v.attribute(number, 0x30);
    v.change(number, at + 24, (number + 1) | sequence, 8);
  }
  return std::move(v.disk);
}

// n files that all lie on the same cluster.
std::unique_ptr<MemoryDevice> one_cluster(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) { folder_and(w, n, false); });
  const Bytes data = attributes(v, first_record + 1, 0x80);
  for (unsigned i = 2; i <= n; ++i) {
    const std::uint64_t number = first_record + i;
    v.replace(number, v.attribute(number, 0x80), attributes(v, number, 0x80).size(), data);
  }
  return std::move(v.disk);
}

// n files with one attribute list of n entries between them. `own`: each entry leads to the record
// itself rather than to another's.
std::unique_ptr<MemoryDevice> shared_list(unsigned n, bool own) {
  Bytes list(std::size_t{n} * 32);
  for (std::size_t i = 0; i < n; ++i) {
    put(list, i * 32, 0x80, 4);
    put(list, i * 32 + 4, 32, 2);
    put(list, i * 32 + 7, 26, 1);
    put(list, i * 32 + 16, (first_record + (own ? 1 : i)) | sequence, 8);
  }
  NtfsBytes v = volume(n, [&](FatWriter& w) {
    w.add_file("LIST", list);
    for (unsigned i = 0; i < n; ++i) w.add_file(number_name(i), {});
  });
  Bytes attribute = attributes(v, first_record, 0x80);
  put(attribute, 0, 0x20, 4);
  put(attribute, 14, 7, 2);
  for (unsigned i = 1; i <= n; ++i)
    v.replace(first_record + i, v.attribute(first_record + i, 0x30), 0, attribute);
  return std::move(v.disk);
}

// A disk of nothing, n times 512 MiB long, and an $MFT that claims all of it.
std::unique_ptr<MemoryDevice> huge_mft(unsigned n) {
  NtfsBytes v;
  const std::uint64_t sectors = std::uint64_t{n} << 20;
  auto disk = support::disk(sectors);
  for (std::uint64_t lba = v.disk->next_data(0); lba < v.disk->sectors();
       lba = v.disk->next_data(lba + 1))
    disk->write(lba, v.disk->read(lba));
  Bytes boot = disk->read(0);
  put(boot, 0x28, sectors - 1, 8);
  disk->write(0, boot);
  v.disk = std::move(disk);
  const Bytes record = v.record(0);
  const std::size_t at = v.attribute(0, 0x80);
  const std::size_t runs = at + support::little(record, at + 32, 2);
  const std::size_t pair = 1 + (record[runs] & 15) + (record[runs] >> 4);
  const std::uint64_t begun = support::little(record, runs + 1, record[runs] & 15);
  const std::uint64_t from = 200000;
  const std::uint64_t count = (sectors - 1) / v.spc - from - 1;
  Bytes data(record.begin() + static_cast<long>(at),
             record.begin() + static_cast<long>(runs + pair));
  const std::size_t second = data.size();
  data.resize((second + 10 + 7) / 8 * 8);
  data[second] = 0x44;
  put(data, second + 1, count, 4);
  put(data, second + 5, from - v.mft / v.spc, 4);
  put(data, 4, data.size(), 4);
  put(data, 24, begun + count - 1, 8);
  for (const std::size_t field : {40, 48, 56}) put(data, field, (begun + count) * v.spc * 512, 8);
  v.replace(0, at, support::little(record, at + 4, 4), data);
  return std::move(v.disk);
}

// n files of holes: 2^60 bytes each where the size is told. Some are stored in packed units, some
// say that nothing behind their first byte was ever written.
std::unique_ptr<MemoryDevice> claimed_bytes(unsigned n) {
  NtfsBytes v = volume(n, [n](FatWriter& w) { folder_and(w, n, false); });
  const std::uint64_t clusters = std::uint64_t{1} << 51;  // of 512 bytes
  for (unsigned i = 1; i <= n; ++i) {
    const std::uint64_t number = first_record + i;
    Bytes pairs{0x07};
    for (unsigned b = 0; b < 7; ++b) pairs.push_back(static_cast<std::uint8_t>(clusters >> 8 * b));
    pairs.push_back(0);
    const bool packed = i % 3 == 0;
    Bytes data = support::data_in_units(packed ? 1 : 0x8000, packed ? 4 : 0, clusters,
                                        clusters * 512, clusters, pairs);
    if (i % 3 == 1) put(data, 56, 1, 8);
    v.replace(number, v.attribute(number, 0x80), attributes(v, number, 0x80).size(), data);
  }
  return std::move(v.disk);
}

}  // namespace

std::vector<Hostile> hostile_ntfs() {
  return {{"NTFS: folders that share one index", shared_index, 500},
          {"NTFS: a file in many pieces with many names", many_links},
          {"NTFS: short names with colliding references", colliding_references, 3000},
          {"NTFS: an index as deep as it is long", deep_index},
          {"NTFS: folders whose parents are the next records", parents_ahead},
          {"NTFS: files that lie on one cluster", one_cluster},
          {"NTFS: one attribute list for many files, leading to others",
           [](unsigned n) { return shared_list(n, false); }},
          {"NTFS: one attribute list for many files, leading to one",
           [](unsigned n) { return shared_list(n, true); }},
          {"NTFS: files that claim 2^60 bytes each, of nothing", claimed_bytes},
          {"NTFS: an $MFT that claims a disk of nothing", huge_mft, 512}};
}

}  // namespace bounds

#include <map>
#include <set>

#include <fmt/core.h>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

// Contents of every file as read by its extents, by path.
std::map<std::string, Bytes> contents_of(VolumeReader& reader) {
  std::map<std::string, Bytes> out;
  const FileTree& tree = reader.tree();
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    Bytes bytes;
    for (const SectorRange& e : tree.extents(id)) {
      const Bytes part = reader.device().read(e.first, e.count);
      bytes.insert(bytes.end(), part.begin(), part.end());
    }
    bytes.resize(std::min<std::size_t>(bytes.size(), tree.bytes(id)));
    if (!tree.is_directory(id)) out[tree.path(id)] = bytes;
  }
  return out;
}

void put_entry_bytes(Bytes& folder, std::size_t index, const std::string& name11,
                     std::uint8_t attributes, std::uint32_t cluster, std::uint32_t size,
                     std::uint8_t nt = 0) {
  const std::size_t at = index * 32;
  std::copy(name11.begin(), name11.end(), folder.begin() + static_cast<std::ptrdiff_t>(at));
  folder[at + 11] = attributes;
  folder[at + 12] = nt;
  folder[at + 26] = static_cast<std::uint8_t>(cluster);
  for (unsigned i = 0; i < 4; ++i) folder[at + 28 + i] = static_cast<std::uint8_t>(size >> 8 * i);
}

// A FAT16 volume of 8000 sectors by the specification's offsets: FATs at 1 and 33, root folder of
// 64 entries at 65, data from 69 on, one sector a cluster.
void handmade(MemoryDevice& device, const Bytes& root) {
  Bytes boot(512);
  const auto put = [&boot](std::size_t at, std::uint64_t value, unsigned width) {
    for (unsigned i = 0; i < width; ++i) boot[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
  };
  put(0, 0x903CEB, 3);
  put(11, 512, 2);
  put(13, 1, 1);
  put(14, 1, 2);
  put(16, 2, 1);
  put(17, 64, 2);
  put(19, 8000, 2);
  put(21, 0xF8, 1);
  put(22, 32, 2);
  put(38, 0x29, 1);
  put(39, 0x12345678, 4);
  put(510, 0xAA55, 2);
  device.write(0, boot);
  Bytes fat(512);
  const std::uint16_t entries[] = {0xFFF8, 0xFFFF, 0xFFFF, 5, 0xFFF7, 0xFFFF, 7, 6, 0xFFFF};
  for (std::size_t i = 0; i < std::size(entries); ++i) {
    fat[i * 2] = static_cast<std::uint8_t>(entries[i]);
    fat[i * 2 + 1] = static_cast<std::uint8_t>(entries[i] >> 8);
  }
  device.write(1, fat);
  device.write(33, fat);
  Bytes folder = root;
  folder.resize(4 * 512);
  device.write(65, folder);
}

}  // namespace

TEST_CASE("fat: what was written is read back, in every type and sector size") {
  struct Variant {
    VolumeKind kind;
    std::uint64_t sectors;
    std::uint32_t sector_size, cluster_sectors, reserved;
  };
  const Variant variants[] = {
      {VolumeKind::fat12, 8000, 512, 4, 0},    {VolumeKind::fat16, 64000, 512, 2, 3},
      {VolumeKind::fat16, 30000, 4096, 1, 0},  {VolumeKind::fat32, 600000, 512, 8, 35},
      {VolumeKind::fat32, 80000, 4096, 1, 33},
  };
  for (const Variant& v : variants) {
    CAPTURE(std::string(name_of(v.kind)));
    CAPTURE(v.sector_size);
    MemoryDevice device(v.sectors, v.sector_size);
    FatFormat format;
    format.kind = v.kind;
    format.cluster_sectors = v.cluster_sectors;
    format.reserved_sectors = v.reserved;
    format.label = "TIDES";
    format.serial = 0x1234ABCD;
    Random random(v.sectors);
    std::map<std::string, Bytes> wanted;
    FatWriter writer(device, format);
    writer.mark_bad(40, 2);
    writer.add_directory("deep");
    writer.add_directory("deep/潮位 observations");
    const Placement placements[] = {Placement::together, Placement::scattered, Placement::at_end};
    for (unsigned i = 0; i < 60; ++i) {
      Bytes content(random.below(9000));
      random.fill(content);
      FatFileInfo info;
      info.modified = parse_time("2029-05-06T07:08:10Z");
      info.created = parse_time("2029-05-06T07:08:09.37Z");
      info.placement = placements[i % 3];
      const std::string path = i % 2 == 0 ? fmt::format("deep/潮位 observations/no {}.dat", i)
                                          : fmt::format("FILE{}.DAT", i);
      writer.add_file(path, content, info);
      wanted[path] = content;
    }
    const std::uint32_t free = writer.free_clusters();
    writer.finish();

    CHECK(recognise_volume(device).kind == v.kind);
    const auto reader = open_volume(device, utc());
    REQUIRE(reader);
    CHECK(contents_of(*reader) == wanted);
    CHECK(reader->findings().empty());
    CHECK(reader->info().label == "TIDES");
    CHECK(reader->info().serial == "1234-ABCD");
    CHECK(reader->info().clean);
    CHECK(reader->info().free_bytes / reader->info().cluster_bytes <= free);
    const FileTree& tree = reader->tree();
    CHECK(tree.file_count() == 60);
    CHECK(tree.directory_count() == 2);
    for (FileTree::Id id = 1; id < tree.size(); ++id) {
      if (tree.is_directory(id)) continue;
      CHECK(format_time(tree.info(id).modified) == "2029-05-06T07:08:10Z");
      CHECK(format_time(tree.info(id).created) == "2029-05-06T07:08:09.37Z");
      for (const SectorRange& e : tree.extents(id)) CHECK(reader->owned().contains(e));
    }
  }
}

TEST_CASE("fat: a name of any letters is read back as it was given") {
  // ASCII twice as often, so that a name is short, and mixes cases and scripts.
  const std::vector<std::u16string> alphabets = {u"ABCXYZ",   u"abcxyz", u"0123-_~ ", u"ÄÖÜÅÉÑ",
                                                 u"äöüåéñßÿ", u"ıİſµ",   u"ΩΣωςσ",    u"ЖЯжя",
                                                 u"潮位",     u"..[+,"};
  std::uint64_t names = 0;
  for (const unsigned codepage : {437u, 850u, 852u, 866u, 932u}) {
    CAPTURE(codepage);
    Random random(codepage);
    MemoryDevice device(200000, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    format.codepage = codepage;
    FatWriter writer(device, format);
    std::set<std::u16string> folded;
    std::set<std::string> wanted;
    for (int i = 0; i < 2000; ++i) {
      std::u16string name;
      const std::size_t parts = 1 + random.below(3);
      for (std::size_t units = 1 + random.below(random.below(4) == 0 ? 30 : 8); units > 0;
           --units) {
        const auto& letters = alphabets[random.below(parts == 1 ? 2 : alphabets.size())];
        name.push_back(letters[random.below(letters.size())]);
      }
      if (name.back() == u'.' || name.back() == u' ' || name.front() == u' ') continue;
      if (!folded.insert(fold_case(name)).second) continue;
      writer.add_file(to_utf8(name), {});
      wanted.insert(to_utf8(name));
    }
    writer.finish();
    ReadOptions options = utc();
    options.codepage = codepage;
    std::set<std::string> found;
    const auto reader = open_volume(device, options);
    const FileTree& tree = reader->tree();
    for (FileTree::Id id = 1; id < tree.size(); ++id) found.insert(tree.path(id));
    for (const std::string& name : wanted) CHECK_MESSAGE(found.count(name) == 1, name);
    CHECK(found.size() == wanted.size());
    CHECK(check_volume(device, options).empty());
    names += wanted.size();
    // Through NTFS and back, where names keep long forms: whatever page they are read with then.
    const support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    for (const char* goal : {"volume=ntfs", "volume=fat32"}) {
      CAPTURE(std::string(goal));
      JobOptions job = support::case_in_memory(folder / goal);
      job.read = options;
      const Assessment a = assess(device, {parse_goal(goal)}, options, random);
      for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
      REQUIRE(a.in_reach());
      const JobResult result = run_job(device, a, job, quiet);
      CHECK(result.sound());
      CHECK(result.findings_after.empty());
    }
    for (const unsigned other : {codepage, 437u, 866u}) {
      CAPTURE(other);
      options.codepage = other;
      found.clear();
      const auto again = open_volume(device, options);
      const FileTree& back = again->tree();
      for (FileTree::Id id = 1; id < back.size(); ++id) found.insert(back.path(id));
      CHECK(found == wanted);
    }
  }
  MESSAGE(names << " names");
}

TEST_CASE("fat: entries made by hand from the specification") {
  Bytes root(64 * 32);
  put_entry_bytes(root, 0, "MOORING DAT", 0x08, 0, 0);         // the label
  put_entry_bytes(root, 1, "README  TXT", 0x21, 2, 10, 0x18);  // both case bits
  put_entry_bytes(root, 2, "\x05KT     BIN", 0x20, 3, 700);    // begins with E5; chain 3, 5
  put_entry_bytes(root, 3,
                  "\xE5"
                  "ELETED TXT",
                  0x20, 8, 10);
  put_entry_bytes(root, 4,
                  "\x9A"
                  "BER    TXT",
                  0x20, 0, 0);                             // Ü in code page 437
  put_entry_bytes(root, 5, "CIRCLE  BIN", 0x20, 6, 5000);  // 6, 7, 6 …
  put_entry_bytes(root, 6, "TOOSHORTBIN", 0x20, 8, 5000);
  put_entry_bytes(root, 7, "ONBAD   BIN", 0x20, 4, 100);
  MemoryDevice device(8000, 512);
  handmade(device, root);
  const auto reader = open_volume(device, utc());
  REQUIRE(reader);
  const FileTree& tree = reader->tree();
  CHECK(reader->info().label == "MOORING DAT");
  std::map<std::string, FileTree::Id> by_path;
  for (FileTree::Id id = 1; id < tree.size(); ++id) by_path[tree.path(id)] = id;
  CHECK(by_path.size() == 6);
  REQUIRE(by_path.count("readme.txt") == 1);
  CHECK(tree.info(by_path["readme.txt"]).attributes == (attr_read_only | attr_archive));
  CHECK(tree.short_name(by_path["readme.txt"]) == u"README.TXT");
  CHECK(by_path.count("ÜBER.TXT") == 1);
  REQUIRE(by_path.count("σKT.BIN") == 1);  // E5 in code page 437
  const auto extents = tree.extents(by_path["σKT.BIN"]);
  REQUIRE(extents.size() == 2);
  CHECK(extents[0] == SectorRange{70, 1});
  CHECK(extents[1] == SectorRange{72, 1});
  std::map<std::string, Rule> broken;
  for (const Finding& f : reader->findings()) broken[f.place.path] = f.code;
  CHECK(broken["CIRCLE.BIN"] == Rule::fat_chain);
  CHECK(broken["TOOSHORT.BIN"] == Rule::fat_chain_short);
  CHECK(broken["ONBAD.BIN"] == Rule::fat_chain);
  CHECK(broken.size() == 3);
}

TEST_CASE("fat: the type follows from the cluster count alone") {
  for (const std::uint64_t clusters : {4084u, 4085u, 65524u, 65525u}) {
    MemoryDevice device(clusters * 2 + 2000, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    std::string made;
    for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32}) {
      format.kind = kind;
      // The window leaves exactly that many clusters behind reserved sectors, FATs and root folder.
      const std::uint64_t entry_bits = kind == VolumeKind::fat12   ? 12
                                       : kind == VolumeKind::fat16 ? 16
                                                                   : 32;
      const std::uint64_t fat = div_up<std::uint64_t>((clusters + 2) * entry_bits, 8 * 512);
      const std::uint64_t front = (kind == VolumeKind::fat32 ? 32 : 1 + 32) + 2 * fat;
      WritableWindow window(device, {0, front + clusters});
      try {
        FatWriter(window, format).finish();
        made += name_of(kind);
        CHECK(recognise_volume(window).kind == kind);
      } catch (const Error&) {
        continue;
      }
    }
    CHECK(made == (clusters < 4085 ? "fat12" : clusters < 65525 ? "fat16" : "fat32"));
  }
}

TEST_CASE("fat: a volume that was not closed is reported, by either note") {
  MemoryDevice device(64000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 2;
  FatWriter(device, format).finish();
  SUBCASE("in the FAT") {
    Bytes fat = device.read(1);
    fat[3] = 0x7F;
    device.write(1, fat);
  }
  SUBCASE("in the boot sector") {
    Bytes boot = device.read(0);
    boot[37] |= 1;
    device.write(0, boot);
  }
  const auto reader = open_volume(device, utc());
  CHECK_FALSE(reader->info().clean);
  CHECK(find_code(reader->findings(), Rule::fat_not_clean) != nullptr);
}

TEST_CASE("fat: damage of any kind ends in findings or an error, never worse") {
  MemoryDevice good(8000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat12;
  format.cluster_sectors = 4;
  Random random(99);
  FatWriter writer(good, format);
  orrelune::fill_volume(writer, random, 5);
  writer.finish();
  for (int round = 0; round < 400; ++round) {
    const auto device = good.clone();
    for (std::uint64_t n = 1 + random.below(6); n > 0; --n) {
      const std::uint64_t lba = random.below(2) == 0 ? random.below(60) : random.below(400);
      Bytes sector = device->read(lba);
      sector[random.below(512)] = static_cast<std::uint8_t>(random.next());
      device->write(lba, sector);
    }
    try {
      const auto reader = open_volume(*device, utc());
      if (!reader) continue;
      QuietProgress quiet;
      (void)record_volume(*reader, 0, quiet);
    } catch (const Error& e) {
      CHECK(!e.message().empty());
    }
  }
}

TEST_CASE("fat: a head of other bits, and free sectors full of ones, hide no volume") {
  // The end of a chain in entry 1 has eight spellings; flash that was erased is ones.
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32}) {
    CAPTURE(std::string(name_of(kind)));
    for (const bool strange : {false, true}) {
      CAPTURE(strange);
      const auto disk = support::disk(kind == VolumeKind::fat12   ? 4000
                                      : kind == VolumeKind::fat16 ? 30000
                                                                  : 75000,
                                      512);
      FatFormat format;
      format.kind = kind;
      format.cluster_sectors = kind == VolumeKind::fat16 ? 2 : 1;
      Random random(support::seed(8));
      FatWriter writer(*disk, format);
      orrelune::fill_volume(writer, random, 12);
      writer.finish();
      const Manifest was = support::manifest_of(*disk);
      REQUIRE(was.whole());
      const auto reader = open_volume(*disk, utc());
      const SectorSet in_use = reader->owned();
      const Bytes ones(512, 0xFF);
      for (std::uint64_t lba = 0; lba < disk->sectors(); ++lba) {
        if (!in_use.contains(SectorRange{lba, 1})) disk->write(lba, ones);
      }
      // Both copies alike, by the boot sector.
      const Bytes boot = disk->read(0);
      const std::uint64_t first = disk_bytes::little(boot, 14, 2);
      const std::uint64_t length = kind == VolumeKind::fat32 ? disk_bytes::little(boot, 36, 4)
                                                             : disk_bytes::little(boot, 22, 2);
      for (const std::uint64_t at : {first, first + length}) {
        Bytes head = disk->read(at);
        if (kind == VolumeKind::fat12) head[1] = 0x8F;
        if (kind == VolumeKind::fat16) head[2] = 0xF8;
        if (kind == VolumeKind::fat32) head[4] = 0xF8;
        if (strange) head[1] = 0;
        disk->write(at, head);
      }
      const Manifest now = support::manifest_of(*disk);
      for (const Difference& d : compare(was, now).differences) MESSAGE(d.path << ": " << d.text);
      CHECK(now.seal() == was.seal());
    }
  }
}

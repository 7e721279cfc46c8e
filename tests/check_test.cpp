// One damaged volume for each rule: the check names it. Damage is done to bytes, by the formats'
// descriptions.

#include <functional>
#include <set>

#include <fmt/format.h>

#include "ntfs_bytes.h"
#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::little;
using support::NtfsBytes;
using support::put;
using support::utc;
using volumes::noise;

namespace {

// A FAT32 volume with clusters of one sector, and hands on its bytes.
struct FatVolume {
  std::unique_ptr<MemoryDevice> disk = support::disk(80000, 512);
  std::uint64_t fat = 32, fat_sectors, data, root;

  FatVolume() {
    FatFormat format;
    format.cluster_sectors = 1;
    format.label = "BOJE";
    FatWriter writer(*disk, format);
    writer.add_file("A.BIN", noise(5 * 512, 1));
    writer.add_file("B.BIN", noise(3 * 512, 2));
    writer.add_file("a long name for one file.text", noise(700, 3));
    writer.add_directory("D");
    writer.add_file("D/C.BIN", noise(900, 4));
    writer.add_directory("E");
    writer.mark_bad(30000, 1);
    writer.finish();
    const Bytes boot = disk->read(0);
    fat_sectors = little(boot, 36, 4);
    data = fat + 2 * fat_sectors;
    root = little(boot, 44, 4);
  }
  [[nodiscard]] std::uint64_t sector_of(std::uint64_t cluster) const { return data + cluster - 2; }
  [[nodiscard]] std::uint64_t entry(std::uint64_t cluster) const {
    return little(disk->read(fat + cluster / 128), cluster % 128 * 4, 4);
  }
  void set_entry(std::uint64_t cluster, std::uint64_t value, bool both = true) {
    for (const std::uint64_t copy : {fat, fat + fat_sectors}) {
      Bytes sector = disk->read(copy + cluster / 128);
      put(sector, cluster % 128 * 4, value, 4);
      disk->write(copy + cluster / 128, sector);
      if (!both) return;
    }
  }
  void change(std::uint64_t lba, std::size_t at, std::uint64_t value, unsigned width = 1) const {
    Bytes sector = disk->read(lba);
    put(sector, at, value, width);
    disk->write(lba, sector);
  }
  // Where the 8.3 entry of a name stands: sector and offset.
  [[nodiscard]] std::pair<std::uint64_t, std::size_t> find(const std::string& name,
                                                           std::uint64_t folder = 0) const {
    if (folder == 0) folder = root;
    for (std::uint64_t c = folder; c >= 2 && c < 0x0FFFFFF8; c = entry(c)) {
      const Bytes sector = disk->read(sector_of(c));
      for (std::size_t at = 0; at < 512; at += 32) {
        if (std::equal(name.begin(), name.end(), sector.begin() + static_cast<long>(at)) &&
            sector[at + 11] != 0x0F)
          return {sector_of(c), at};
      }
    }
    FAIL("no entry " << name);
    return {};
  }
  [[nodiscard]] std::uint64_t cluster_of(const std::string& name, std::uint64_t folder = 0) const {
    const auto [lba, at] = find(name, folder);
    const Bytes sector = disk->read(lba);
    return little(sector, at + 26, 2) | little(sector, at + 20, 2) << 16;
  }
};

struct Damage {
  const char* code;
  std::function<void(FatVolume&)> done;
};

struct NtfsDamage {
  const char* code;
  std::function<void(NtfsBytes&)> done;
};

template <typename Volume, typename Case>
void every_case_is_named(const std::vector<Case>& cases) {
  const Volume sound;
  CHECK(check_volume(*sound.disk, utc()).empty());
  std::set<std::string> codes;
  for (const Case& c : cases) {
    CAPTURE(std::string(c.code));
    Volume volume = Volume();
    c.done(volume);
    const Findings findings = check_volume(*volume.disk, utc());
    std::string all;
    for (const Finding& f : findings) all += f.code + " ";
    CHECK_MESSAGE(find_code(findings, c.code) != nullptr, "said instead: " << all);
    codes.insert(c.code);
  }
  MESSAGE(cases.size() << " damaged volumes, " << codes.size() << " rules named");
}

}  // namespace

TEST_CASE("check: every rule of FAT is named when it is broken") {
  const std::vector<Damage> cases = {
      {"fat.boot-copy", [](FatVolume& v) { v.change(6, 3, 0x41); }},
      {"fat.boot-fields", [](FatVolume& v) { v.change(0, 42, 0x0100, 2); }},
      {"fat.cluster-count", [](FatVolume& v) { v.change(0, 32, v.data + 60000, 4); }},
      {"fat.one-copy",
       [](FatVolume& v) {
         v.change(0, 16, 1);
         v.change(0, 32, 80000 - v.fat_sectors, 4);
       }},
      {"fat.not-clean", [](FatVolume& v) { v.set_entry(1, 0x07FFFFFF); }},
      {"fat.not-clean", [](FatVolume& v) { v.change(0, 65, 1); }},
      {"fat.media", [](FatVolume& v) { v.set_entry(0, 0x0FFFFFF0); }},
      {"fat.copies-differ", [](FatVolume& v) { v.change(v.fat + v.fat_sectors + 1, 8, 7, 4); }},
      {"fat.fs-info", [](FatVolume& v) { v.change(1, 488, 5, 4); }},
      {"fat.fs-info", [](FatVolume& v) { v.change(1, 0, 0, 4); }},
      {"fat.fs-info", [](FatVolume& v) { v.change(1, 492, 90000000, 4); }},
      {"fat.chain-loop",
       [](FatVolume& v) {
         v.set_entry(v.cluster_of("A       BIN") + 4, v.cluster_of("A       BIN"));
       }},
      {"fat.chain-free", [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 40000); }},
      {"fat.chain-bad", [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 30000); }},
      {"fat.chain-outside",
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 0x00FFFFF0); }},
      {"fat.chain-shared",
       [](FatVolume& v) {
         v.set_entry(v.cluster_of("A       BIN") + 1, v.cluster_of("B       BIN"));
       }},
      {"fat.chain-short",
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 0x0FFFFFFF); }},
      {"fat.chain-long",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 28, 600, 4);
       }},
      {"fat.unowned",
       [](FatVolume& v) {
         v.set_entry(50000, 50001);
         v.set_entry(50001, 0x0FFFFFFF);
       }},
      {"fat.folder-cluster",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("D          ");
         v.change(lba, at + 26, 0, 2);
       }},
      {"fat.folder-twice",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("E          ");
         v.change(lba, at + 26, v.cluster_of("D          "), 2);
       }},
      {"fat.folder-size",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("D          ");
         v.change(lba, at + 28, 512, 4);
       }},
      {"fat.folder-too-long",
       [](FatVolume& v) {  // 4,200 clusters of entries that aren't there
         std::uint64_t last = v.cluster_of("E          ");
         for (std::uint64_t c = 60000; c < 64200; ++c) {
           v.set_entry(last, c);
           last = c;
         }
         v.set_entry(last, 0x0FFFFFFF);
         for (std::uint64_t c = 60000; c < 64200; ++c) {
           Bytes sector(512);
           for (std::size_t at = 0; at < 512; at += 32) sector[at] = 0xE5;
           v.disk->write(v.sector_of(c), sector);
         }
         Bytes first = v.disk->read(v.sector_of(v.cluster_of("E          ")));
         for (std::size_t at = 64; at < 512; at += 32) first[at] = 0xE5;
         v.disk->write(v.sector_of(v.cluster_of("E          ")), first);
       }},
      {"fat.dots",
       [](FatVolume& v) { v.change(v.sector_of(v.cluster_of("D          ")), 32 + 26, 9, 2); }},
      {"fat.long-name-orphan",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at, 0xE5);
       }},
      {"fat.long-name-form",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at - 32 + 26, 3, 2);
       }},
      {"fat.label",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("C       BIN", v.cluster_of("D          "));
         v.change(lba, at + 11, 8);
       }},
      {"fat.name-illegal",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, '/');
       }},
      {"fat.name-odd",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, '*');
       }},
      {"fat.name-twice",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, 'B');
       }},
      {"fat.attributes",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 11, 0xA0);
       }},
      {"fat.time",
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 24, 0x01E1, 2);
       }},
  };
  every_case_is_named<FatVolume>(cases);
}

TEST_CASE("check: every rule of NTFS is named when it is broken") {
  const std::vector<NtfsDamage> cases = {
      {"ntfs.boot-fields",
       [](NtfsBytes& v) {
         v.disk->write(0, [&] {
           Bytes b = v.disk->read(0);
           b[21] = 0xF0;
           return b;
         }());
       }},
      {"ntfs.boot-copy", [](NtfsBytes& v) { v.disk->write(119999, Bytes(512)); }},
      {"ntfs.record-torn",
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.mft + 2 * 64 + 1);
         b[510] ^= 0xFF;
         v.disk->write(v.mft + 2 * 64 + 1, b);
       }},
      {"ntfs.record-missing", [](NtfsBytes& v) { v.change(8, 0, 'X', 1); }},
      {"ntfs.record",
       [](NtfsBytes& v) {  // the list leads to a record that continues another file
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         const std::uint64_t lba = v.sector_of(n, 0x20);
         Bytes list = v.disk->read(lba);
         for (std::size_t at = 0; little(list, at + 4, 2) != 0; at += little(list, at + 4, 2)) {
           if (little(list, at + 16, 6) != n) put(list, at + 16, 5, 6);
         }
         v.disk->write(lba, list);
       }},
      {"ntfs.nameless",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x30), 0x40, 4);
       }},
      {"ntfs.unreachable",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"D");
         v.change(n, v.attribute(n, 0x30) + 24, n | 1ull << 48, 8);
       }},
      {"ntfs.bitmap-size", [](NtfsBytes& v) { v.change(6, v.attribute(6, 0x80) + 48, 9, 8); }},
      {"ntfs.record-size", [](NtfsBytes& v) { v.change(65, 28, 2048, 4); }},
      {"ntfs.record-number", [](NtfsBytes& v) { v.change(65, 44, 7, 4); }},
      {"ntfs.sequence-zero", [](NtfsBytes& v) { v.change(65, 16, 0, 2); }},
      {"ntfs.sequence-system", [](NtfsBytes& v) { v.change(4, 16, 9, 2); }},
      {"ntfs.attribute-end", [](NtfsBytes& v) { v.change(65, 24, 40, 4); }},
      {"ntfs.attribute-form",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 4, 0x1000, 4); }},
      {"ntfs.attribute-order", [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10), 0xC0, 4); }},
      {"ntfs.attribute-type", [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10), 0x08, 4); }},
      {"ntfs.attribute-id", [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 14, 0, 2); }},
      {"ntfs.attribute-indexed",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 22, 0, 1); }},
      {"ntfs.runlist",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 64, 0xFF, 1);
       }},
      {"ntfs.runlist-length",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 24, 99, 8);
       }},
      {"ntfs.runlist-form",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         const std::size_t at = v.attribute(n, 0x80) + 64;
         const std::uint64_t lcn = v.sector_of(n, 0x80) / v.spc;
         v.change(n, at, 0x32, 1);  // the length in two bytes where one would do
         v.change(n, at + 1, 5, 2);
         v.change(n, at + 3, lcn, 3);
         v.change(n, at + 6, 0, 1);
       }},
      {"ntfs.link-count", [](NtfsBytes& v) { v.change(65, 18, 7, 2); }},
      {"ntfs.sizes",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 48, 99999, 8);
       }},
      {"ntfs.hole",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 64, 0x000501, 3);
       }},
      {"ntfs.standard-information",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10) + 16, 60, 4); }},
      {"ntfs.security-id",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10) + 24 + 52, 0x999, 4); }},
      {"ntfs.name-form", [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 24 + 65, 9, 1); }},
      {"ntfs.name-unlisted",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 24 + 66, u'Z', 2); }},
      {"ntfs.name-copy",
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 24 + 8, 12345, 8); }},
      {"ntfs.directory-flag", [](NtfsBytes& v) { v.change(v.record_of(u"A.BIN"), 22, 3, 2); }},
      {"ntfs.attribute-list",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         const std::uint64_t lba = v.sector_of(n, 0x20);
         Bytes list = v.disk->read(lba);
         list[24] ^= 0x3F;
         v.disk->write(lba, list);
       }},
      {"ntfs.extension",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         v.change(n, 16, 77, 2);
       }},
      {"ntfs.mft-bitmap", [](NtfsBytes& v) { v.change(65, 22, 0, 2); }},
      {"ntfs.mirror",
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.mirror + 2);
         b[100] ^= 1;
         v.disk->write(v.mirror + 2, b);
       }},
      {"ntfs.volume-record",
       [](NtfsBytes& v) { v.change(3, v.attribute(3, 0x70) + 24 + 8, 2, 1); }},
      {"ntfs.not-clean", [](NtfsBytes& v) { v.change(3, v.attribute(3, 0x70) + 24 + 10, 1, 1); }},
      {"ntfs.log", [](NtfsBytes& v) { v.disk->write(v.sector_of(2, 0x80), Bytes(512)); }},
      {"ntfs.attr-def", [](NtfsBytes& v) { v.disk->write(v.sector_of(4, 0x80), Bytes(512)); }},
      {"ntfs.upcase",
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.sector_of(10, 0x80) + 1);
         put(b, (0x131 - 0x100) * 2, u'I', 2);
         v.disk->write(v.sector_of(10, 0x80) + 1, b);
       }},
      {"ntfs.boot-file", [](NtfsBytes& v) { v.change(7, v.attribute(7, 0x80) + 48, 4096, 8); }},
      {"ntfs.bad-clusters",
       [](NtfsBytes& v) { v.change(8, v.attribute(8, 0x80, 1) + 48, 4096, 8); }},
      {"ntfs.security-stream",
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.sector_of(9, 0x80));
         b[60] ^= 1;
         v.disk->write(v.sector_of(9, 0x80), b);
       }},
      {"ntfs.security-index",
       [](NtfsBytes& v) { v.change(9, v.attribute(9, 0x90, 1) + 32 + 32 + 28, 0x7777, 4); }},
      {"ntfs.bitmap-missing",
       [](NtfsBytes& v) {
         const std::uint64_t lcn = v.sector_of(v.record_of(u"A.BIN"), 0x80) / v.spc;
         const std::uint64_t lba = v.sector_of(6, 0x80) + lcn / 4096;
         Bytes b = v.disk->read(lba);
         b[lcn / 8 % 512] = 0;
         v.disk->write(lba, b);
       }},
      {"ntfs.bitmap-lost",
       [](NtfsBytes& v) {
         const std::uint64_t lba = v.sector_of(6, 0x80) + 26;
         Bytes b = v.disk->read(lba);
         b[9] = 0xFF;
         v.disk->write(lba, b);
       }},
      {"ntfs.bitmap-tail",
       [](NtfsBytes& v) {
         const std::uint64_t last = little(v.disk->read(0), 0x28, 8) / v.spc;  // clusters
         const std::uint64_t lba = v.sector_of(6, 0x80) + last / 4096;
         Bytes b = v.disk->read(lba);
         b[last / 8 % 512] = 0;
         v.disk->write(lba, b);
       }},
      {"ntfs.cluster-shared",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         const std::size_t at = v.attribute(n, 0x80) + 64;
         v.change(n, at, 0x31, 1);
         v.change(n, at + 1, 5, 1);
         v.change(n, at + 2,
                  v.sector_of(v.record_of(u"a long name for one file.text"), 0x80) / v.spc, 3);
         v.change(n, at + 5, 0, 1);
       }},
      {"ntfs.index-root",
       [](NtfsBytes& v) { v.change(5, v.attribute(5, 0x90) + 32 + 4, 0x10, 4); }},
      {"ntfs.index-header",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x1C, 9000, 4); }); }},
      {"ntfs.index-entry",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 8, 4, 2); }); }},
      {"ntfs.index-block",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 16, 777, 8); }); }},
      {"ntfs.index-torn",
       [](NtfsBytes& v) {
         const std::uint64_t lba = v.sector_of(v.record_of(u"D"), 0xA0) + 3;
         Bytes b = v.disk->read(lba);
         b[511] ^= 0x55;
         v.disk->write(lba, b);
       }},
      {"ntfs.index-order",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 66, u'Z', 2); }); }},
      {"ntfs.index-parent",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16, 5, 6); }); }},
      {"ntfs.name-dangling",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40, 390, 6); }); }},
      {"ntfs.name-unknown",
       [](NtfsBytes& v) {
         v.change_block([](Bytes& b) {
           put(b, 0x40 + 16 + 65, 1, 1);
           put(b, 0x40, 65, 6);
         });
       }},
      {"ntfs.name-illegal",
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 66, u'/', 2); }); }},
      {"ntfs.name-twice",
       [](NtfsBytes& v) {
         v.change_block([](Bytes& b) {  // the second entry gets the first one's name
           const std::size_t second = 0x40 + little(b, 0x48, 2);
           const std::size_t bytes = 66 + 2u * b[0x40 + 16 + 64];
           for (std::size_t i = 0; i < bytes && 16 + i < little(b, second + 8, 2); ++i)
             b[second + 16 + i] = b[0x50 + i];
         });
       }},
      {"ntfs.index-bitmap",
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"D");
         v.change(n, v.attribute(n, 0xB0) + 32, 0xFFFFFFFE, 8);
       }},
  };
  every_case_is_named<NtfsBytes>(cases);
}

namespace {

// Mends, proves that the check finds nothing then and that the way back is exact.
void mend(FatVolume& volume, Unowned unowned) {
  const support::Folder folder;
  QuietProgress quiet;
  const auto original = volume.disk->clone();
  const Assessment a = assess_repair(*volume.disk, utc(), unowned);
  for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
  REQUIRE(a.in_reach());
  REQUIRE_FALSE(a.steps.empty());
  JobOptions options;
  options.read = utc();
  options.case_folder = folder / "case";
  CHECK(run_job(*volume.disk, a, options, quiet).sound());
  for (const Finding& f : check_volume(*volume.disk, utc())) FAIL_CHECK(f.code << ": " << f.text);
  const auto copy = volume.disk->clone();
  (void)revert_case(*copy, load_case(folder / "case"), false, quiet);
  CHECK(copy->same_as(*original));
}

void lose_chains(FatVolume& v) {
  v.set_entry(50000, 50001);
  v.set_entry(50001, 0x0FFFFFFF);
  v.set_entry(50010, 0x0FFFFFFF);
  v.disk->write(v.sector_of(50001), noise(512, 77));
}

}  // namespace

TEST_CASE("mend: FSInfo, boot sector, FAT copies, sizes, unowned chains, alone and all at once") {
  const auto cluster = [](FatVolume& v) { return v.cluster_of("A       BIN"); };
  const std::vector<std::function<void(FatVolume&)>> damage = {
      [](FatVolume& v) { v.change(1, 488, 5, 4); },
      [](FatVolume& v) { v.change(1, 0, 0, 4); },
      [](FatVolume& v) { v.change(6, 3, 0x41); },
      [](FatVolume& v) { v.change(v.fat + v.fat_sectors + 1, 8, 7, 4); },
      [&](FatVolume& v) { v.set_entry(cluster(v) + 1, 0x0FFFFFFF); },  // short
      [](FatVolume& v) {                                               // long
        const auto [lba, at] = v.find("B       BIN");
        v.change(lba, at + 28, 600, 4);
      },
      [](FatVolume& v) {  // long, and empty
        const auto [lba, at] = v.find("ALONGN~1TEX");
        v.change(lba, at + 28, 0, 4);
      },
      lose_chains,
  };
  for (const auto& one : damage) {
    FatVolume volume;
    one(volume);
    mend(volume, Unowned::free);
  }
  FatVolume volume;
  for (const auto& one : damage) one(volume);
  mend(volume, Unowned::free);
  const auto reader = open_volume(*volume.disk, utc());
  const FileTree& tree = reader->tree();
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.path(id) == "A.BIN") CHECK(tree.bytes(id) == 1024);
    if (tree.path(id) == "B.BIN") CHECK(tree.bytes(id) == 600);
  }
}

TEST_CASE("mend: unowned chains are left alone, freed or kept as files, as told") {
  FatVolume untold;
  lose_chains(untold);
  const Assessment only_info = assess_repair(*untold.disk, utc());
  REQUIRE(only_info.steps.size() == 1);
  CHECK(only_info.steps[0].lba == 1);  // FSInfo counts them as used
  CHECK(only_info.steps[0].behind.empty());
  FatVolume kept;
  lose_chains(kept);
  mend(kept, Unowned::keep);
  const auto reader = open_volume(*kept.disk, utc());
  std::set<std::string> paths;
  const FileTree& tree = reader->tree();
  for (FileTree::Id id = 1; id < tree.size(); ++id) paths.insert(tree.path(id));
  CHECK(paths.count("UNOWNED/CHAIN001.BIN") + paths.count("UNOWNED/CHAIN002.BIN") == 2);
  QuietProgress quiet;
  const Manifest manifest = take_manifest(*kept.disk, utc(), quiet);
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.path(id) != "UNOWNED/CHAIN001.BIN") continue;
    Bytes content(512);
    const Bytes tail = noise(512, 77);
    content.insert(content.end(), tail.begin(), tail.end());
    CHECK(manifest.volumes[0].digests[id] == Sha256::of(content));
  }
  FatVolume taken;  // the name is in use
  lose_chains(taken);
  const auto [lba, at] = taken.find("A       BIN");
  const std::string name = "UNOWNED    ";
  for (std::size_t i = 0; i < 11; ++i)
    taken.change(lba, at + i, static_cast<std::uint8_t>(name[i]));
  const Assessment a = assess_repair(*taken.disk, utc(), Unowned::keep);
  REQUIRE_FALSE(a.in_reach());
  CHECK(a.obstacles[0].code == "keep-unowned");
  // What crosses or loops is for a person to decide: nothing is touched.
  FatVolume crossed;
  crossed.set_entry(crossed.cluster_of("A       BIN") + 1, crossed.cluster_of("B       BIN"));
  CHECK(assess_repair(*crossed.disk, utc(), Unowned::free).steps.empty());
}

TEST_CASE("check: single partitions on the command line, and what isn't there") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  support::make_small_disk(image, 40000, 2048, 30000);
  const std::string name = image.string();
  CHECK(support::tool("check " + name + " p1").status == 0);
  CHECK(support::tool("check " + name + " p3").status == 2);
  CHECK(support::tool("check --repair " + name + " p1").status == 2);
  {
    const auto device = open_device(image, {true, 512});
    Bytes fat = device->read(2048 + 1);
    fat[0] = 0xF0;
    device->write(2048 + 1, fat);
  }
  const auto ran = support::tool("check --json " + name + " p1");
  CHECK(ran.status == 1);
  CHECK(ran.out.find("fat.media") != std::string::npos);
}

TEST_CASE("read: compressed units, holes, named streams and encrypted files") {
  NtfsBytes volume;
  const auto wanted = support::make_rare_contents(volume);
  QuietProgress quiet;
  const Manifest manifest = take_manifest(*volume.disk, utc(), quiet);
  const ManifestVolume& v = manifest.volumes.at(0);
  std::size_t seen = 0;
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    const auto it = wanted.find(v.tree.path(id));
    if (it == wanted.end()) continue;
    ++seen;
    CAPTURE(it->first);
    CHECK(v.tree.bytes(id) == it->second.size());
    CHECK(v.digests[id] == Sha256::of(it->second));
  }
  CHECK(seen == wanted.size());
  CHECK(v.unreadable.empty());
  const std::uint64_t n = volume.record_of(u"PIECES.BIN");
  volume.change(n, volume.attribute(n, 0x10) + 24 + 32, 0x4020, 4);
  const auto reader = open_volume(*volume.disk, utc());
  (void)reader->tree();
  CHECK(find_code(reader->findings(), "ntfs.encrypted") != nullptr);
  // A packed unit that makes no sense is damage, not contents.
  const std::uint64_t lba = volume.sector_of(volume.record_of(u"UNITS.BIN"), 0x80);
  Bytes torn = volume.disk->read(lba);
  torn[2] = 0xFF;
  torn[3] = 0xFF;
  volume.disk->write(lba, torn);
  const Manifest damaged = take_manifest(*volume.disk, utc(), quiet);
  CHECK(damaged.unreadable_files() == 1);
}

// FAT: a damaged volume for each rule, and what a mend makes of damage.

#include <functional>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "broken_rules.h"
#include "orrelune.h"
#include "volumes.h"

using namespace nuvrat;
using support::little;
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

}  // namespace

TEST_CASE("check: every rule of FAT is named when it is broken") {
  const std::vector<support::Damage<FatVolume>> cases = {
      {Rule::fat_boot_copy, [](FatVolume& v) { v.change(6, 3, 0x41); }},
      {Rule::fat_boot_copy, [](FatVolume& v) { v.change(6, 510, 0); }},
      {Rule::fat_boot_fields, [](FatVolume& v) { v.change(0, 42, 0x0100, 2); }},
      {Rule::fat_cluster_count, [](FatVolume& v) { v.change(0, 32, v.data + 60000, 4); }},
      {Rule::fat_one_copy,
       [](FatVolume& v) {
         v.change(0, 16, 1);
         v.change(0, 36, 2 * v.fat_sectors, 4);
       }},
      {Rule::fat_not_clean, [](FatVolume& v) { v.set_entry(1, 0x07FFFFFF); }},
      {Rule::fat_not_clean, [](FatVolume& v) { v.change(0, 65, 1); }},
      {Rule::fat_media, [](FatVolume& v) { v.set_entry(0, 0x0FFFFFF0); }},
      {Rule::fat_copies_differ, [](FatVolume& v) { v.change(v.fat + v.fat_sectors + 1, 8, 7, 4); }},
      {Rule::fat_fs_info, [](FatVolume& v) { v.change(1, 488, 5, 4); }},
      {Rule::fat_fs_info, [](FatVolume& v) { v.change(1, 0, 0, 4); }},
      {Rule::fat_fs_info, [](FatVolume& v) { v.change(1, 492, 90000000, 4); }},
      {Rule::fat_chain_loop,
       [](FatVolume& v) {
         v.set_entry(v.cluster_of("A       BIN") + 4, v.cluster_of("A       BIN"));
       }},
      {Rule::fat_chain_free,
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 40000); }},
      {Rule::fat_chain_bad,
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 30000); }},
      {Rule::fat_chain_outside,
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 0x00FFFFF0); }},
      {Rule::fat_chain_shared,
       [](FatVolume& v) {
         v.set_entry(v.cluster_of("A       BIN") + 1, v.cluster_of("B       BIN"));
       }},
      {Rule::fat_chain_short,
       [](FatVolume& v) { v.set_entry(v.cluster_of("A       BIN") + 1, 0x0FFFFFFF); }},
      {Rule::fat_chain_long,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 28, 600, 4);
       }},
      {Rule::fat_unowned,
       [](FatVolume& v) {
         v.set_entry(50000, 50001);
         v.set_entry(50001, 0x0FFFFFFF);
       }},
      {Rule::fat_root_lost, [](FatVolume& v) { v.disk->write(v.sector_of(v.root), Bytes(512)); }},
      {Rule::fat_folders_astray,
       [](FatVolume& v) {  // the boot sectors lead to another folder
         for (const std::uint64_t boot : {0, 6}) v.change(boot, 44, v.cluster_of("D          "), 4);
       }},
      {Rule::fat_folders_astray,
       [](FatVolume& v) {
         for (const char* folder : {"D          ", "E          "})
           v.disk->write(v.sector_of(v.cluster_of(folder)), Bytes(512));
       }},
      {Rule::fat_folder_cluster,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("D          ");
         v.change(lba, at + 26, 0, 2);
       }},
      {Rule::fat_folder_twice,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("E          ");
         v.change(lba, at + 26, v.cluster_of("D          "), 2);
       }},
      {Rule::fat_folder_size,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("D          ");
         v.change(lba, at + 28, 512, 4);
       }},
      {Rule::fat_folder_too_long,
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
      {Rule::fat_dots,
       [](FatVolume& v) { v.change(v.sector_of(v.cluster_of("D          ")), 32 + 26, 9, 2); }},
      {Rule::fat_long_name_orphan,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at, 0xE5);
       }},
      {Rule::fat_long_name_form,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at - 32 + 26, 3, 2);
       }},
      {Rule::fat_long_name_form,  // a zero inside
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at - 32 + 3, 0, 2);
       }},
      {Rule::fat_long_name_broken,  // the checksum of one piece
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at - 32 + 13, 0x55);
       }},
      {Rule::fat_long_name_broken,  // its ordinal
       [](FatVolume& v) {
         const auto [lba, at] = v.find("ALONGN~1TEX");
         v.change(lba, at - 32, 7);
       }},
      {Rule::fat_behind_end,
       [](FatVolume& v) {
         const std::uint64_t folder = v.sector_of(v.cluster_of("D          "));
         Bytes sector = v.disk->read(folder);
         std::size_t end = 0;
         while (sector[end] != 0) end += 32;
         std::copy_n("HIDDEN  BIN ", 12, sector.begin() + static_cast<std::ptrdiff_t>(end + 32));
         v.disk->write(folder, sector);
       }},
      {Rule::fat_name_odd,  // small letters
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, 'a');
       }},
      {Rule::fat_label,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("C       BIN", v.cluster_of("D          "));
         v.change(lba, at + 11, 8);
       }},
      {Rule::fat_name_illegal,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, '/');
       }},
      {Rule::fat_name_odd,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, '*');
       }},
      {Rule::fat_name_twice,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at, 'B');
       }},
      {Rule::fat_attributes,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 11, 0xA0);
       }},
      {Rule::fat_time,
       [](FatVolume& v) {
         const auto [lba, at] = v.find("A       BIN");
         v.change(lba, at + 24, 0x01E1, 2);
       }},
  };
  support::every_case_is_named<FatVolume>(cases);
}

namespace {

// Mends, proves that the check finds nothing then and that the way back is exact.
Comparison mend(FatVolume& volume, Unowned unowned) {
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
  const JobResult result = run_job(*volume.disk, a, options, quiet);
  CHECK(result.sound());
  for (const Finding& f : check_volume(*volume.disk, utc()))
    FAIL_CHECK(name_of(f.code) << ": " << f.text);
  const auto copy = volume.disk->clone();
  (void)revert_case(*copy, load_case(folder / "case"), {}, quiet);
  CHECK(copy->same_as(*original));
  return result.comparison;
}

void lose_chains(FatVolume& v) {
  v.set_entry(50000, 50001);
  v.set_entry(50001, 0x0FFFFFFF);
  v.set_entry(50010, 0x0FFFFFFF);
  v.disk->write(v.sector_of(50001), noise(512, 77));
}

}  // namespace

TEST_CASE("mend: what the second boot sector says as the rest does is put into the first one") {
  for (const auto& wrong : std::vector<std::vector<std::pair<std::uint64_t, unsigned>>>{
           {{42, 7}}, {{43, 1}}, {{21, 0xF0}}, {{21, 0xFF}, {42, 1}}}) {
    FatVolume volume;
    const auto sound = volume.disk->clone();
    for (const auto& [at, byte] : wrong) volume.change(0, at, byte);
    (void)mend(volume, Unowned::leave);
    CHECK(volume.disk->same_as(*sound));
    // Where the second one says the same, it stays: nothing says better.
    for (const auto& [at, byte] : wrong) {
      for (const std::uint64_t boot : {0, 6}) volume.change(boot, at, byte);
    }
    CHECK(assess_repair(*volume.disk, utc()).steps.empty());
  }
}

TEST_CASE("mend: where the root folder is lost, what was in it is kept as told, and never freed") {
  FatVolume volume;
  volume.disk->write(volume.sector_of(volume.root), Bytes(512));
  const auto original = volume.disk->clone();
  CHECK(assess_repair(*volume.disk, utc(), Unowned::free).steps.empty());
  const Assessment a = assess_repair(*volume.disk, utc(), Unowned::keep);
  REQUIRE(a.in_reach());
  const support::Folder folder;
  JobOptions options = support::case_in_memory(folder / "case");
  QuietProgress quiet;
  CHECK(support::code_of([&] { (void)run_job(*volume.disk, a, options, quiet); }) ==
        ErrorCode::refused);  // its owner must know that nothing can be compared
  CHECK(volume.disk->same_as(*original));
  options.case_folder = folder / "again";
  options.accept_unreadable = true;
  CHECK(run_job(*volume.disk, a, options, quiet).sound());
  const Manifest kept = support::manifest_of(*volume.disk);
  CHECK(kept.whole());
  CHECK(kept.files() == 6);  // four files and two folders, as chains
  CHECK(check_volume(*volume.disk, utc()).empty());
}

TEST_CASE("mend: FSInfo, boot sector, FAT copies, sizes, unowned chains, alone and all at once") {
  const auto cluster = [](FatVolume& v) { return v.cluster_of("A       BIN"); };
  const std::vector<std::function<void(FatVolume&)>> damage = {
      [](FatVolume& v) { v.change(1, 488, 5, 4); },
      [](FatVolume& v) { v.change(1, 0, 0, 4); },
      [](FatVolume& v) { v.change(6, 510, 0); },
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
    (void)mend(volume, Unowned::free);
  }
  FatVolume volume;
  for (const auto& one : damage) one(volume);
  (void)mend(volume, Unowned::free);
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
  CHECK(make_rewrite(only_info.steps[0], *untold.disk)->switch_sector().lba == 1);  // FSInfo
  CHECK(only_info.sectors_to_write == 1);
  FatVolume kept;
  lose_chains(kept);
  CHECK(mend(kept, Unowned::keep).added == 2);  // chains, each a file
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
  FatVolume longer;  // a chain that goes on after its file's end
  const auto [size_lba, size_at] = longer.find("B       BIN");
  longer.change(size_lba, size_at + 28, 600, 4);
  CHECK(assess_repair(*longer.disk, utc()).steps.empty());
  (void)mend(longer, Unowned::keep);
  const auto long_reader = open_volume(*longer.disk, utc());
  const Bytes whole = noise(3 * 512, 2);
  CHECK(support::contents_of(*long_reader, "UNOWNED/CHAIN001.BIN") ==
        Bytes(whole.begin() + 1024, whole.end()));
  CHECK(support::contents_of(*long_reader, "B.BIN") == Bytes(whole.begin(), whole.begin() + 600));
  FatVolume taken;  // the name is in use
  lose_chains(taken);
  const auto [lba, at] = taken.find("A       BIN");
  const std::string name = "UNOWNED    ";
  for (std::size_t i = 0; i < 11; ++i)
    taken.change(lba, at + i, static_cast<std::uint8_t>(name[i]));
  const Assessment a = assess_repair(*taken.disk, utc(), Unowned::keep);
  REQUIRE_FALSE(a.in_reach());
  CHECK(a.obstacles[0].code == ObstacleCode::keep_unowned);
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
  CHECK(ran.out.find(name_of(Rule::fat_media)) != std::string::npos);
}

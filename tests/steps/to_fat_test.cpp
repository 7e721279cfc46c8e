// NTFS to FAT, FAT to another FAT: what comes out keeps every rule, holds every file, and goes back
// to the byte.

#include <fstream>
#include <map>
#include <set>

#include <fmt/core.h>
#include <nlohmann/json.hpp>

#include "ntfs_bytes.h"
#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::utc;
using volumes::noise;

namespace {

Assessment assessed_fat(Device& device, const std::vector<std::string>& words) {
  Random random(1);
  std::vector<Goal> goals;
  for (const std::string& w : words) goals.push_back(parse_goal(w));
  return assess(device, goals, utc(), random);
}

// Does it, proves it, and proves the way back on a copy. The assessment; nothing in reach: no more.
Assessment into(MemoryDevice& device, const std::vector<std::string>& words) {
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  const auto original = device.clone();
  Assessment a = assessed_fat(device, words);
  if (!a.in_reach()) return a;
  JobOptions options = support::case_in_memory(folder / "case");
  const JobResult result = run_job(device, a, options, quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  CHECK(result.sound());
  const Findings findings = survey_disk(device, utc(), true).all_findings();
  for (const Finding& f : findings)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text << " " << f.place.text());
  CHECK(findings.empty());
  const auto copy = device.clone();
  (void)revert_case(*copy, load_case(folder / "case"), {}, quiet);
  CHECK(copy->same_as(*original));
  return a;
}

std::string seal_of(const Device& device) {
  QuietProgress quiet;
  return take_manifest(device, utc(), quiet).seal();
}

// Sixty files of a MiB, just where larger FATs must lie.
std::unique_ptr<MemoryDevice> full_at_its_front() {
  auto device = support::disk(4200000);
  FatFormat format;
  format.kind = VolumeKind::fat32;
  format.cluster_sectors = 32;
  format.label = "BOJE 8";
  FatWriter writer(*device, format);
  for (int i = 0; i < 60; ++i)
    writer.add_file(fmt::format("FRONT{:02}.BIN", i), noise(1u << 20, static_cast<unsigned>(i)));
  writer.finish();
  return device;
}

bool makes_way(const Assessment& a) {
  return std::any_of(a.steps.begin(), a.steps.end(),
                     [](const Step& s) { return s.code() == "ntfs-edit"; });
}

}  // namespace

TEST_CASE("to FAT: there and back, every volume that is hard, and the seal is the same") {
  int ways = 0, back = 0, refused = 0;
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    const auto device = support::disk(volume.sectors, volume.sector_size);
    volume.make(*device);
    const std::string kind = name_of(recognise_volume(*device).kind);
    const std::string seal = seal_of(*device);
    if (!into(*device, {"volume=ntfs"}).in_reach()) continue;
    const Assessment a = into(*device, {"volume=" + std::string(kind == "fat12" ? "fat16" : kind)});
    if (!a.in_reach()) {
      ++refused;
      MESSAGE(volume.name << ": " << a.obstacles[0].text);
      continue;
    }
    ways += makes_way(a) ? 1 : 0;
    ++back;
    CHECK(seal_of(*device) == seal);
  }
  MESSAGE(back << " volumes back, " << ways << " with way made, " << refused << " refused");
  CHECK(back > 6);
}

TEST_CASE("to FAT: clusters of every size, sectors of both, from NTFS and from FAT") {
  struct Case {
    VolumeKind kind;
    std::uint32_t sector_size, cluster_sectors;
    std::uint64_t sectors;
    std::vector<std::string> goals;  // one after the other
  };
  const std::vector<Case> cases = {
      {VolumeKind::fat32, 512, 8, 1200000, {"volume.cluster=4KiB", "volume.cluster=2KiB"}},
      {VolumeKind::fat32, 512, 4, 1200000, {"volume=fat16", "volume=fat32", "volume.cluster=4KiB"}},
      {VolumeKind::fat16, 512, 32, 1200000, {"volume=ntfs", "volume=fat32", "volume=ntfs"}},
      {VolumeKind::fat16, 4096, 2, 100000, {"volume=ntfs", "volume.cluster=4KiB", "volume=fat16"}},
      {VolumeKind::fat32, 4096, 1, 80000, {"volume=ntfs", "volume=fat32", "volume=fat16"}},
      {VolumeKind::fat16, 512, 64, 2000000, {"volume.cluster=16KiB", "volume=fat32"}},
  };
  for (const Case& c : cases) {
    CAPTURE(c.sectors);
    CAPTURE(c.cluster_sectors);
    const auto device = support::disk(c.sectors, c.sector_size);
    FatFormat format;
    format.kind = c.kind;
    format.cluster_sectors = c.cluster_sectors;
    format.label = "BOJE 7";
    format.serial = 0x12345678;
    FatWriter writer(*device, format);
    Random random(c.sectors);
    orrelune::fill_volume(writer, random, 40);
    FatFileInfo last;
    last.placement = Placement::at_end;
    writer.add_file("last.bin", noise(3 * c.sector_size + 7, 5), last);
    FatFileInfo scattered;
    scattered.placement = Placement::scattered;
    writer.add_file("pieces.bin", noise(200 * c.cluster_sectors * c.sector_size, 6), scattered);
    writer.finish();
    const std::string seal = seal_of(*device);
    for (const std::string& goal : c.goals) {
      CAPTURE(goal);
      const Assessment a = into(*device, {goal});
      for (const Obstacle& o : a.obstacles) MESSAGE(goal << ": " << name_of(o) << ": " << o.text);
      CHECK(seal_of(*device) == seal);
      const auto reader = open_volume(*device, utc());
      CHECK(reader->info().serial == "1234-5678");
      CHECK(reader->info().label == "BOJE 7");
    }
  }
}

TEST_CASE("to FAT: where the FATs must lie is in use, so way is made in NTFS first") {
  const auto device = full_at_its_front();
  const std::string seal = seal_of(*device);
  REQUIRE(into(*device, {"volume=ntfs"}).in_reach());
  const Assessment a = into(*device, {"volume=fat32", "volume.cluster=1KiB"});
  for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
  REQUIRE(a.in_reach());
  CHECK(makes_way(a));
  CHECK(seal_of(*device) == seal);
}

TEST_CASE("to FAT: another FAT whose FATs fall on files, by way of NTFS") {
  const auto device = full_at_its_front();
  const std::string seal = seal_of(*device);
  const Assessment a = into(*device, {"volume.cluster=1KiB"});
  for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
  REQUIRE(a.in_reach());
  CHECK(a.steps.size() == 3);
  CHECK(a.steps.front().code() == "fat-to-ntfs");
  CHECK(a.steps.back().code() == "to-fat");
  CHECK(seal_of(*device) == seal);
  CHECK(open_volume(*device, utc())->info().cluster_bytes == 1024);
}

TEST_CASE("to FAT: short names that another code page can't spell become others, and it is said") {
  auto device = support::disk(200000, 512);
  FatFormat format;
  format.cluster_sectors = 2;
  format.codepage = 852;
  {
    FatWriter writer(*device, format);
    writer.add_file("\xC5\x81\xC3\x93\xC5\xB9 of the tide.txt", noise(300, 1));
    writer.add_file("plain and long name.txt", noise(300, 2));
    writer.finish();
  }
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  Random random(1);
  const auto rewritten = [&](const char* goal, unsigned page, const char* name) {
    ReadOptions read = utc();
    read.codepage = page;
    Assessment a = assess(*device, {parse_goal(goal)}, read, random);
    for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
    REQUIRE(a.in_reach());
    JobOptions options = support::case_in_memory(folder / name);
    options.read = read;
    CHECK(run_job(*device, a, options, quiet).sound());
    return a;
  };
  (void)rewritten("volume=ntfs", 852, "ntfs");
  for (const unsigned page : {437u, 852u}) {
    CAPTURE(page);
    const auto before = device->clone();
    const Assessment a = rewritten("volume=fat32", page, page == 437 ? "fat" : "same");
    const auto said = std::find_if(a.consents.begin(), a.consents.end(), [](const Consent& c) {
      return c.code == ConsentCode::short_names;
    });
    REQUIRE((said != a.consents.end()) == (page == 437));
    if (page == 437) CHECK(said->text == "1 short name (8.3) is lost");
    device = before->clone();
  }
}

TEST_CASE("to FAT: room that would be lost in front of the FATs is said, or saved by way of NTFS") {
  for (const bool full : {true, false}) {
    CAPTURE(full);
    auto device = support::disk(300000, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    {
      FatWriter writer(*device, format);
      writer.add_directory("TIDES");
      writer.add_file("TIDES/a year of them.csv", noise(300000, 1));
      // What is left free is little; the old FATs take 2.3 MiB.
      if (full) writer.mark_bad(20000, 262000);
      writer.finish();
    }
    const std::uint64_t free = survey_disk(*device, utc()).partitions[0].volume->free_bytes;
    const Assessment a = into(*device, {"volume.cluster=1KiB"});
    for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
    REQUIRE(a.in_reach());
    const auto said = [&a](ConsentCode code) {
      return std::any_of(a.consents.begin(), a.consents.end(),
                         [code](const Consent& c) { return c.code == code; });
    };
    CHECK(said(ConsentCode::by_way_of_ntfs) == full);
    CHECK(said(ConsentCode::room) == !full);
    const std::uint64_t left = survey_disk(*device, utc()).partitions[0].volume->free_bytes;
    const std::uint64_t old_fats = 2ull * 2319 * 512;
    CHECK((left + old_fats / 2 >= free) == full);
  }
}

TEST_CASE("to FAT: no new volume has a count of clusters where the type changes, or near it") {
  int made = 0;
  for (const char* kind : {"fat16", "fat32"}) {
    for (std::uint64_t sectors = 65525 + 500; sectors < 65525 + 1200; sectors += 23) {
      MemoryDevice disk(90000, 512);
      Layout empty;
      empty.kind = TableKind::mbr;
      empty.disk_sectors = disk.sectors();
      empty.disk_signature = 7;
      write_new_table(disk, empty);
      const Assessment a = assessed_fat(disk, {fmt::format("g1={}:{}B", kind, sectors * 512)});
      if (!a.in_reach()) continue;
      QuietProgress quiet;
      const support::Folder folder(support::Folder::Where::memory);
      CHECK(run_job(disk, a, support::case_in_memory(folder / "case"), quiet).sound());
      const Bytes boot = disk.read(read_table(disk).layout.partitions.at(0).start);
      const auto field = [&boot](std::size_t at, unsigned n) {
        return support::little(boot, at, n);
      };
      const std::uint64_t fat = field(22, 2) != 0 ? field(22, 2) : field(36, 4);
      const std::uint64_t total = field(19, 2) != 0 ? field(19, 2) : field(32, 4);
      const std::uint64_t data = field(14, 2) + 2 * fat + field(17, 2) / 16;
      const std::uint64_t clusters = (total - data) / field(13, 1);
      CAPTURE(sectors);
      CHECK((clusters < 65525 - 15 || clusters >= 65525 + 16));
      CHECK((clusters >= 65525) == (std::string(kind) == "fat32"));
      ++made;
    }
  }
  CHECK(made > 30);
}

TEST_CASE("to FAT: packed units, holes and streams are written out, or kept in the case") {
  support::NtfsBytes v;
  const auto wanted = support::make_rare_contents(v);
  const support::Folder folder(support::Folder::Where::memory);
  const auto original = v.disk->clone();
  QuietProgress quiet;
  const Assessment a = assessed_fat(*v.disk, {"volume=fat32"});
  for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
  REQUIRE(a.in_reach());
  JobOptions options = support::case_in_memory(folder / "case");
  const JobResult result = run_job(*v.disk, a, options, quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  CHECK(result.comparison.equal());
  std::set<std::string> planned;
  for (const Difference& d : result.comparison.planned) planned.insert(d.path);
  CHECK(planned == std::set<std::string>{":of the volume", "a long name for one file.text:note",
                                         "a long name for one file.text:$EA"});
  const auto reader = open_volume(*v.disk, utc());
  for (const auto& [path, bytes] : wanted) {
    CAPTURE(path);
    if (path.find(':') != path.npos) {
      CHECK(reader->tree().find(path) == FileTree::none);
      continue;
    }
    CHECK(support::contents_of(*reader, path) == bytes);
  }
  // The rest is in the case, under its hash.
  std::ifstream list(folder / "case" / "left-behind" / "list.jsonl");
  std::map<std::string, std::size_t> kinds;
  for (std::string line; std::getline(list, line);) {
    const auto j = nlohmann::json::parse(line);
    const std::string what = j.value("what", "");
    ++kinds[what];
    if (what == "object-id") CHECK(j["name"] == support::rare_object_id);
    if (what != "stream" && what != "extended-attributes") continue;
    const std::string name = what == "stream" ? j["name"] : "$EA";
    std::ifstream file(folder / "case" / "left-behind" / j["file"].get<std::string>());
    const Bytes kept((std::istreambuf_iterator<char>(file)), {});
    CHECK(kept == wanted.at(j["path"].get<std::string>() + ":" + name));
    CHECK(j["sha256"] == Sha256::of(kept).hex());
  }
  CHECK(kinds["stream"] == 2);
  CHECK(kinds["extended-attributes"] == 1);
  CHECK(kinds["object-id"] == 1);
  CHECK(kinds["permissions"] == reader->tree().size());  // the root's, too
  (void)revert_case(*v.disk, load_case(folder / "case"), {}, quiet);
  CHECK(v.disk->same_as(*original));
}

TEST_CASE("to FAT: names that it can't spell are refused, or become others that are listed") {
  support::NtfsBytes v([](FatWriter& w) {
    for (const char* name : {"TIDE*", "TIDE?", "TIDE ", "TIDE_", "GAUGE"})
      w.add_file(name, noise(700, static_cast<unsigned>(name[4])));
    w.add_directory("FOLDER.");
    w.add_file("FOLDER./INSIDE", noise(700, 9));
    // What takes the place of these sorts before them.
    w.add_file("wind|rain", noise(700, 10));
    w.add_directory("Level|");
    w.add_file("Level|/INSIDE|", noise(700, 11));
  });
  const auto original = v.disk->clone();
  const Assessment no = assessed_fat(*v.disk, {"volume=fat32"});
  REQUIRE(no.obstacles.size() >= 4);
  for (const Obstacle& o : no.obstacles) MESSAGE(std::string(name_of(o)) << ": " << o.text);
  CHECK(no.obstacles[0].code == ObstacleCode::name);
  CHECK(no.obstacles[0].remedy.find("names=safe") != std::string::npos);

  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  JobOptions options = support::case_in_memory(folder / "case");
  const Assessment a = assessed_fat(*v.disk, {"volume=fat32", "names=safe"});
  for (const Obstacle& o : a.obstacles) MESSAGE(std::string(name_of(o)) << ": " << o.text);
  REQUIRE(a.in_reach());
  const JobResult result = run_job(*v.disk, a, options, quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  CHECK(result.comparison.equal());
  CHECK(result.comparison.planned.size() == 7);
  const auto reader = open_volume(*v.disk, utc());
  for (const char* name : {"TIDE_", "TIDE_ (2)", "TIDE_ (3)", "TIDE_ (4)", "FOLDER_/INSIDE",
                           "wind_rain", "Level_/INSIDE_"})
    CHECK_MESSAGE(reader->tree().find(name) != FileTree::none, name);
  (void)revert_case(*v.disk, load_case(folder / "case"), {}, quiet);
  CHECK(v.disk->same_as(*original));
}

namespace {

// Short, so that many become the same; of characters that FAT can spell and not.
std::string hard_name(Random& random) {
  static constexpr std::array<const char*, 16> letters = {
      "a", "b", "_", "|", "?", "\\", "<", " ", ".", "~", "1", "(2)", "Z", "ä", "õ", "🌊"};
  std::string out;
  for (std::uint64_t n = 1 + random.below(random.below(8) == 0 ? 120 : 4); n > 0; --n)
    out += letters[random.below(letters.size())];
  return out;
}

}  // namespace

TEST_CASE("to FAT: names drawn at random, many of which it can't spell") {
  QuietProgress quiet;
  std::size_t names = 0, renamed = 0;
  for (std::uint64_t seed = 1; seed <= (support::is_long() ? 1000u : 60u); ++seed) {
    CAPTURE(seed);
    Random random(support::seed(seed));
    support::NtfsBytes v([&](FatWriter& w) {
      std::vector<std::string> folders{""};
      std::set<std::string> used;
      for (std::uint64_t n = 3 + random.below(30); n > 0; --n) {
        const std::string path = folders[random.below(folders.size())] + hard_name(random);
        // No system makes these.
        if (path.ends_with('/') || path.ends_with("/.") || path.ends_with("/..") || path == "." ||
            path == ".." || !used.insert(path).second)
          continue;
        if (random.below(4) == 0) {
          w.add_directory(path);
          folders.push_back(path + "/");
        } else {
          w.add_file(path, noise(random.below(1500), static_cast<unsigned>(n)));
        }
      }
    });
    const auto original = v.disk->clone();
    const Assessment a = assessed_fat(*v.disk, {"volume=fat16", "names=safe"});
    for (const Obstacle& o : a.obstacles) MESSAGE(std::string(name_of(o)) << ": " << o.text);
    REQUIRE(a.in_reach());
    const support::Folder folder(support::Folder::Where::memory);
    JobOptions options = support::case_in_memory(folder / "case");
    options.proof = random.below(2) == 0 ? Proof::places : Proof::contents;
    const JobResult result = run_job(*v.disk, a, options, quiet);
    for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
    CHECK(result.sound());
    names += result.files;
    renamed += result.comparison.planned.size();
    (void)revert_case(*v.disk, load_case(folder / "case"), {}, quiet);
    CHECK(v.disk->same_as(*original));
  }
  MESSAGE(names << " files, " << renamed << " names became others");
  CHECK(renamed > 200);
}

TEST_CASE("to FAT: what it can't hold is refused by name, and nothing is written") {
  const auto code_in = [](const Assessment& a, const std::string& code) {
    return std::any_of(a.obstacles.begin(), a.obstacles.end(),
                       [&](const Obstacle& o) { return name_of(o) == code; });
  };
  SUBCASE("a system that sleeps, on NTFS and on FAT") {
    support::NtfsBytes v([](FatWriter& w) {
      w.add_file("hiberfil.sys", Bytes(4096));
      w.add_file("A.BIN", noise(700, 1));
    });
    Bytes memory = noise(512, 3);
    std::copy_n("HIBR", 4, memory.begin());
    v.disk->write(v.sector_of(v.record_of(u"hiberfil.sys"), 0x80), memory);
    CHECK(code_in(assessed_fat(*v.disk, {"volume=fat32"}), "asleep"));
    const auto device = support::disk(80000);
    FatFormat format;
    format.cluster_sectors = 1;
    FatWriter writer(*device, format);
    writer.add_file("HIBERFIL.SYS", memory);
    writer.finish();
    CHECK(code_in(assessed_fat(*device, {"volume=ntfs"}), "asleep"));
  }
  SUBCASE("a system that woke up") {
    support::NtfsBytes v([](FatWriter& w) { w.add_file("hiberfil.sys", Bytes(4096)); });
    CHECK(assessed_fat(*v.disk, {"volume=fat32"}).in_reach());
  }
  SUBCASE("encrypted files") {
    support::NtfsBytes v;
    const std::uint64_t n = v.record_of(u"A.BIN");
    v.change(n, v.attribute(n, 0x10) + 24 + 32, 0x4020, 4);
    CHECK(code_in(assessed_fat(*v.disk, {"volume=fat32"}), "encrypted"));
  }
  SUBCASE("contents that a layer above keeps; a link is no such") {
    for (const auto& [tag, kept] :
         {std::pair{0x80000017u, true}, {0x9000001Au, true}, {0xA000000Cu, false}}) {
      CAPTURE(tag);
      support::NtfsBytes v;
      const std::uint64_t n = v.record_of(u"a long name for one file.text");
      Bytes point(24 + 16);
      support::put(point, 0, 0xC0, 4);
      support::put(point, 4, point.size(), 4);
      support::put(point, 14, 22, 2);
      support::put(point, 16, 12, 4);
      support::put(point, 20, 24, 2);
      support::put(point, 24, tag, 4);
      support::put(point, 28, 4, 2);
      v.replace(n, v.attribute(n, 0x80) + 72, 0, point);
      support::put_next_id(v, n);
      CHECK(code_in(assessed_fat(*v.disk, {"volume=fat32"}), "reparse") == kept);
    }
  }
  SUBCASE("too few clusters, too many, a size that no sector has") {
    const auto device = support::disk(60000);
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 4;
    FatWriter(*device, format).finish();
    CHECK(code_in(assessed_fat(*device, {"volume=fat32"}), "cluster-count"));
    CHECK(code_in(assessed_fat(*device, {"volume.cluster=64KiB"}), "cluster-count"));
    CHECK(code_in(assessed_fat(*device, {"volume.cluster=2KiB"}), "already"));
    const auto long_sectors = support::disk(80000, 4096);
    format.kind = VolumeKind::fat32;
    format.cluster_sectors = 1;
    FatWriter(*long_sectors, format).finish();
    CHECK(code_in(assessed_fat(*long_sectors, {"volume.cluster=512"}), "cluster-count"));
  }
  SUBCASE("a root folder with more entries than a fixed one has") {
    const auto device = support::disk(400000);
    FatFormat format;
    format.cluster_sectors = 2;
    FatWriter writer(*device, format);
    for (int i = 0; i < 21842; ++i) writer.add_file(fmt::format("reading {:05} x.csv", i), {});
    writer.finish();
    const Assessment a = assessed_fat(*device, {"volume=fat16"});
    for (const Obstacle& o : a.obstacles) MESSAGE(std::string(name_of(o)) << ": " << o.text);
    CHECK(code_in(a, "folder-entries"));
  }
  SUBCASE("files of 4 GiB") {
    const auto device = support::disk(std::uint64_t{24} << 20);
    FatFormat format;
    format.cluster_sectors = 64;
    FatWriter writer(*device, format);
    writer.add_sparse_file("LARGE.BIN", 0xFFFFFFFF);
    writer.finish();
    orrelune::play(*device, "volume=ntfs", 1);
    CHECK(assessed_fat(*device, {"volume=fat32"}).in_reach());
    // One byte more, in the record alone.
    support::NtfsBytes at;
    at.disk = device->clone();
    const Bytes boot = at.disk->read(0);
    at.spc = boot[13];
    at.mft = support::little(boot, 0x30, 8) * at.spc;
    at.mirror = support::little(boot, 0x38, 8) * at.spc;
    const std::uint64_t n = at.record_of(u"LARGE.BIN");
    at.change(n, at.attribute(n, 0x80) + 48, std::uint64_t{1} << 32, 8);
    at.change(n, at.attribute(n, 0x80) + 56, std::uint64_t{1} << 32, 8);
    CHECK(code_in(assessed_fat(*at.disk, {"volume=fat32"}), "file-size"));
  }
}

TEST_CASE("to FAT: just below and above 65,525 clusters, bad ones, and 2 TiB less a sector") {
  SUBCASE("the limit between the kinds") {
    int fat16 = 0, fat32 = 0;
    for (std::uint64_t sectors = 65700; sectors < 67400; sectors += 150) {
      CAPTURE(sectors);
      const auto device = support::disk(sectors);
      FatFormat format;
      format.kind = VolumeKind::fat16;
      format.cluster_sectors = 2;
      volumes::align_data(format, sectors, 512, true);
      FatWriter writer(*device, format);
      Random random(sectors);
      orrelune::fill_volume(writer, random, 8);
      writer.mark_bad(20000, 5);
      writer.finish();
      const std::string seal = seal_of(*device);
      REQUIRE(into(*device, {"volume=ntfs"}).in_reach());
      const SectorSet bad = open_volume(*device, utc())->bad();
      CHECK_FALSE(bad.empty());
      const auto other = device->clone();
      const Assessment small = into(*device, {"volume=fat16", "volume.cluster=512"});
      const Assessment large = into(*other, {"volume=fat32", "volume.cluster=512"});
      for (const auto& [a, disk] : {std::pair{&small, device.get()}, {&large, other.get()}}) {
        if (!a->in_reach()) continue;
        CHECK(seal_of(*disk) == seal);
        CHECK(open_volume(*disk, utc())->bad().contains(bad.ranges()[0]));
      }
      fat16 += small.in_reach() ? 1 : 0;
      fat32 += large.in_reach() ? 1 : 0;
      CHECK((small.in_reach() || large.in_reach()));
    }
    MESSAGE(fat16 << " as FAT16, " << fat32 << " as FAT32");
    CHECK(fat16 > 2);
    CHECK(fat32 > 2);
  }
  SUBCASE("2 TiB less a sector") {
    const auto device = support::disk(0xFFFFFFFF);
    FatFormat format;
    format.cluster_sectors = 128;
    volumes::align_data(format, device->sectors(), 512, true);
    FatWriter writer(*device, format);
    FatFileInfo last;
    last.placement = Placement::at_end;
    writer.add_file("last.bin", noise(300000, 5), last);
    writer.add_file("first.bin", noise(300000, 6));
    writer.finish();
    const std::string seal = seal_of(*device);
    REQUIRE(into(*device, {"volume=ntfs"}).in_reach());
    const Assessment a = into(*device, {"volume=fat32"});
    for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
    REQUIRE(a.in_reach());
    CHECK(seal_of(*device) == seal);
  }
}

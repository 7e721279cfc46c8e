// FAT to NTFS on disks in memory: what comes out keeps every rule, holds every file, and goes back
// to the byte.

#include <algorithm>
#include <functional>
#include <map>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "ntfs_bytes.h"
#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::utc;
using volumes::align_data;
using volumes::noise;

namespace {

Assessment assessed(Device& device, const std::string& word = "volume=ntfs") {
  Random random(1);
  return assess(device, {parse_goal(word)}, utc(), random);
}

struct Converted {
  Assessment assessment;
  JobResult result;
};

// Does the conversion, proves it, and proves the way back on a copy.
Converted convert(MemoryDevice& device, const std::string& word = "volume=ntfs") {
  const support::Folder folder;
  QuietProgress quiet;
  const auto original = device.clone();
  Converted out;
  out.assessment = assessed(device, word);
  for (const Obstacle& o : out.assessment.obstacles) MESSAGE(o.text);
  REQUIRE(out.assessment.in_reach());
  JobOptions options;
  options.read = utc();
  options.case_folder = folder / "case";
  out.result = run_job(device, out.assessment, options, quiet);
  CHECK(out.result.sound());
  const Findings findings = survey_disk(device, utc(), true).all_findings();
  for (const Finding& f : findings)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text << " " << f.place.text());
  CHECK(findings.empty());
  const auto copy = device.clone();
  (void)revert_case(*copy, load_case(folder / "case"), {}, quiet);
  CHECK(copy->same_as(*original));
  return out;
}

}  // namespace

TEST_CASE("ntfs: every cluster size, both sector sizes, every FAT type, aligned and not") {
  struct Case {
    VolumeKind kind;
    std::uint32_t sector_size, cluster_sectors;
    std::uint64_t sectors;
    bool aligned;  // the data area begins on a multiple of the cluster
  };
  const std::vector<Case> cases = {
      {VolumeKind::fat32, 512, 1, 80000, true},      {VolumeKind::fat32, 512, 2, 150000, true},
      {VolumeKind::fat32, 512, 4, 300000, true},     {VolumeKind::fat32, 512, 8, 600000, false},
      {VolumeKind::fat32, 512, 16, 1100000, true},   {VolumeKind::fat32, 512, 32, 2200000, false},
      {VolumeKind::fat32, 512, 64, 4300000, true},   {VolumeKind::fat32, 512, 128, 8500000, true},
      {VolumeKind::fat16, 512, 4, 40000, false},     {VolumeKind::fat16, 512, 32, 600000, true},
      {VolumeKind::fat16, 512, 128, 1300000, false}, {VolumeKind::fat12, 512, 4, 8000, true},
      {VolumeKind::fat12, 512, 16, 30000, false},    {VolumeKind::fat32, 4096, 1, 70000, true},
      {VolumeKind::fat32, 4096, 2, 140000, false},   {VolumeKind::fat16, 4096, 2, 20000, true},
      {VolumeKind::fat16, 4096, 16, 100000, true},
  };
  std::map<std::uint64_t, int> seen;
  for (const Case& c : cases) {
    CAPTURE(c.sectors);
    CAPTURE(c.cluster_sectors);
    FatFormat format;
    format.kind = c.kind;
    format.cluster_sectors = c.cluster_sectors;
    format.reserved_sectors = c.kind == VolumeKind::fat32 ? 32 : 1;
    format.label = "BOJE 7";
    format.serial = 0x12345678;
    const auto device = support::disk(c.sectors, c.sector_size);
    align_data(format, c.sectors, c.sector_size, c.aligned);
    FatWriter writer(*device, format);
    Random random(c.sectors);
    orrelune::fill_volume(writer, random, 30);
    FatFileInfo last;
    last.placement = Placement::at_end;
    writer.add_file("last.bin", noise(3 * c.sector_size + 7, 5), last);
    writer.finish();
    const Converted done = convert(*device);
    const VolumeChange& v = *done.assessment.steps.at(0).volume();
    const std::uint64_t fat_cluster = std::uint64_t{c.cluster_sectors} * c.sector_size;
    CHECK((v.cluster_bytes == fat_cluster) == c.aligned);
    ++seen[v.cluster_bytes];
    const auto reader = open_volume(*device, utc());
    CHECK(reader->info().label == "BOJE 7");
    CHECK(reader->info().serial == "1234-5678");
    CHECK(reader->info().kind == VolumeKind::ntfs);
  }
  CHECK(seen.size() == 8);  // 512 to 65536
}

TEST_CASE("ntfs: volumes that are hard to turn into NTFS come out sound and go back to the byte") {
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    const auto device = support::disk(volume.sectors, volume.sector_size);
    volume.make(*device);
    const auto bad = open_volume(*device, utc())->bad();
    const VolumeChange done = *convert(*device).assessment.steps.at(0).volume();
    CHECK(open_volume(*device, utc())->bad() == bad);
    if (volume.name == "full to the end") CHECK(done.moved_clusters == 1);
    if (volume.name == "a short front") CHECK(done.moved_clusters == 1);
    MESSAGE(volume.name << ": clusters of " << done.cluster_bytes << ", " << done.needed_clusters
                        << " needed, " << done.free_clusters << " free, " << done.moved_clusters
                        << " moved");
  }
}

TEST_CASE(
    "ntfs: almost full: refused with the number that is missing, in reach with exactly that") {
  for (const std::uint32_t cluster : {1u, 8u}) {
    FatFormat format;
    format.cluster_sectors = cluster;
    format.reserved_sectors = 32;
    const std::uint64_t sectors = cluster == 1 ? 90000 : 600000;
    align_data(format, sectors, 512, true);
    const auto make = [&](std::uint64_t free) {
      auto device = support::disk(sectors, 512);
      FatWriter writer(*device, format);
      for (int i = 0; i < 500; ++i)
        writer.add_file(fmt::format("log number {}.csv", i), noise(300, 1));
      const std::uint64_t root = 200;  // clusters that the root folder grows by at the end
      writer.add_sparse_file("filler", (writer.free_clusters() - root - free) * cluster * 512);
      writer.finish();
      return device;
    };
    const auto missing = [&](std::uint64_t free) -> std::uint64_t {
      const Assessment a = assessed(*make(free));
      if (a.in_reach()) return 0;
      CHECK(a.obstacles.size() == 1);
      CHECK(a.obstacles[0].code == ObstacleCode::volume_room);
      return a.obstacles[0].missing_sectors / cluster;
    };
    const std::uint64_t spare = 100;
    const std::uint64_t first = missing(spare);
    REQUIRE(first > 1);
    CHECK(missing(spare + first - 1) == 1);
    CHECK(missing(spare + first) == 0);
    convert(*make(spare + first));
    MESSAGE("clusters of " << cluster * 512 << ": " << first << " were missing");
  }
}

TEST_CASE("ntfs: a file of 4 GiB less a byte") {
  const support::Folder folder;
  const auto device = support::disk(9000000, 512);
  FatFormat format;
  format.cluster_sectors = 8;
  FatWriter writer(*device, format);
  writer.add_sparse_file("BIG.BIN", 0xFFFFFFFF);
  writer.finish();
  QuietProgress quiet;
  JobOptions options;
  options.read = utc();
  options.case_folder = folder / "case";
  // Hashing that many zeros, twice, says no more of the size.
  if (!support::is_long()) options.proof = Proof::places;
  const JobResult result = run_job(*device, assessed(*device), options, quiet);
  CHECK(result.sound());
  CHECK(result.bytes == 0xFFFFFFFF);
}

TEST_CASE("ntfs: what can't be done is refused by name, and nothing is written") {
  const auto volume = [](const std::function<void(FatWriter&)>& fill) {
    auto device = support::disk(80000, 512);
    FatFormat format;
    format.cluster_sectors = 1;
    FatWriter writer(*device, format);
    fill(writer);
    writer.finish();
    return device;
  };
  const auto first_code = [](Device& device, const std::string& word = "volume=ntfs") {
    const Assessment a = assessed(device, word);
    return a.in_reach() ? "in reach" : std::string(name_of(a.obstacles[0]));
  };
  CHECK(first_code(*volume([](FatWriter& w) { w.add_file("$MFT", {}); })) == "name-reserved");
  CHECK(first_code(*volume([](FatWriter& w) { w.add_directory("$Extend"); })) == "name-reserved");
  CHECK(first_code(*volume([](FatWriter& w) { w.add_file("fine", {}); })) == "in reach");
  // Nothing but single clusters is free: contents between them move, but what is bad does not.
  const auto singles = [](FatWriter& w) {
    FatFileInfo scattered;
    scattered.placement = Placement::scattered;
    w.add_file("pieces", noise(512 * (w.free_clusters() / 2 - 8), 1), scattered);
  };
  CHECK(first_code(*volume(singles)) == "in reach");
  const Assessment moving = assessed(*volume(singles));
  CHECK(std::any_of(moving.consents.begin(), moving.consents.end(),
                    [](const Consent& c) { return c.code == ConsentCode::made_way; }));
  {  // and what is read before attribute lists are known has none afterwards
    const auto device = volume(singles);
    convert(*device);
    const Findings found = check_volume(*device, utc());
    CHECK_MESSAGE(found.empty(), found.front().code << ": " << found.front().text);
  }
  CHECK(first_code(*volume([&](FatWriter& w) {
          singles(w);
          const auto mark = [&w](std::uint32_t c) {
            try {
              w.mark_bad(c, 1);
              return true;
            } catch (const Error&) {
              return false;  // in use, or behind the volume's end
            }
          };
          for (std::uint32_t c = 4; mark(c) || mark(c + 1); c += 8) continue;
        })) == "room-in-pieces");
  auto done = volume([](FatWriter& w) { w.add_file("fine", {}); });
  convert(*done);
  CHECK(first_code(*done) == "already");
  auto dirty = volume([](FatWriter& w) { w.add_file("fine", {}); });
  Bytes fat = dirty->read(32);
  fat[7] = 0x07;
  dirty->write(32, fat);
  CHECK(first_code(*dirty) == name_of(Rule::fat_not_clean));

  {  // A live volume whose $UpCase would have to move into single clusters: not with a list.
    const auto device = volume([](FatWriter& w) {
      FatFileInfo scattered;
      scattered.placement = Placement::scattered;
      w.add_file("pieces", noise(512 * 30000, 1), scattered);
    });
    convert(*device);
    int shorter = 0, refused = 0;
    for (const char* goal : {"volume.size=39MiB", "volume.size=36MiB", "volume.size=33MiB",
                             "volume.size=31MiB", "volume.size=min"}) {
      const auto copy = device->clone();
      const Assessment a = assessed(*copy, goal);
      if (!a.in_reach()) {
        CHECK(a.obstacles[0].code == ObstacleCode::volume_room);
        ++refused;
        continue;
      }
      QuietProgress quiet;
      const support::Folder folder(support::Folder::Where::memory);
      CHECK(run_job(*copy, a, support::case_in_memory(folder / "case"), quiet).sound());
      CHECK(find_code(check_volume(*copy, utc()), Rule::ntfs_system_list) == nullptr);
      ++shorter;
    }
    MESSAGE(shorter << " made shorter, " << refused << " refused");
    CHECK(shorter > 0);
  }

  // On a disk with a table: the EFI system partition, and what is no FAT at all.
  MemoryDevice device(200000, 512);
  Random random(5);
  Layout layout = disk_bytes::gpt(device.sectors(), 512, random);
  disk_bytes::add(layout, {2048, 80000}, random).type = efi_system_guid();
  disk_bytes::add(layout, {2048 + 90000, 80000}, random);
  write_new_table(device, layout);
  WritableWindow window(device, {2048, 80000});
  FatFormat format;
  format.cluster_sectors = 1;
  FatWriter(window, format).finish();
  CHECK(first_code(device, "p1=ntfs") == "efi-system");
  CHECK(first_code(device, "p2=ntfs") == "not-fat");
  CHECK(support::code_of([&] { (void)assessed(device, "volume=ntfs"); }) == ErrorCode::words);
  CHECK(support::code_of([&] { (void)assessed(device, "p7=ntfs"); }) == ErrorCode::words);
  CHECK(support::code_of([] { (void)parse_goal("p1=fat64"); }) == ErrorCode::words);
}

namespace {

class Tally final : public SectorSink {
 public:
  explicit Tally(std::uint32_t size) : size_(size) {}
  void write(std::uint64_t lba, ByteView data) override {
    sectors += data.size() / size_;
    ++calls;
    places.add({lba, data.size() / size_});
  }
  std::uint64_t sectors = 0, calls = 0;
  SectorSet places;

 private:
  std::uint32_t size_;
};

}  // namespace

TEST_CASE("ntfs: the conversion reads FAT and folders once, no file, and writes nothing twice") {
  const auto device = support::disk(900000, 512);
  FatFormat format;
  format.cluster_sectors = 8;
  align_data(format, 900000, 512, true);
  FatWriter writer(*device, format);
  Random random(3);
  orrelune::fill_volume(writer, random, 400);
  writer.finish();
  const Assessment a = assessed(*device);
  support::ReadNotes notes(*device);
  Tally tally(512);
  const auto rewrite = make_rewrite(a.steps.at(0), notes);
  rewrite->prepare(tally);
  const auto fat = open_volume(*device, utc());
  const Bytes boot = device->read(0);
  const std::uint64_t fat_start = support::little(boot, 14, 2);
  const std::uint64_t fat_sectors = support::little(boot, 36, 4);
  std::uint64_t in_fat = 0, in_data = 0, most = 0;
  SectorSet files;
  for (FileTree::Id id = 1; id < fat->tree().size(); ++id) {
    for (const SectorRange& e : fat->tree().extents(id)) files.add(e);
  }
  std::uint64_t in_files = 0;
  for (const std::uint64_t where : {std::uint64_t{0}, fat_start, fat->info().first_cluster})
    notes.reads.erase(where);  // looked at first: is the boot sector this volume's?
  for (const auto& [lba, times] : notes.reads) {
    in_fat += lba >= fat_start && lba < fat_start + fat_sectors ? 1 : 0;
    if (lba >= fat->info().first_cluster) ++in_data;
    in_files += files.contains({lba, 1}) ? 1 : 0;
    most = std::max<std::uint64_t>(most, static_cast<std::uint64_t>(times));
  }
  const VolumeChange& v = *a.steps[0].volume();
  const std::uint64_t structures = v.needed_clusters * v.cluster_bytes / 512;
  CHECK(most == 1);
  CHECK(in_files <= v.moved_clusters * v.cluster_bytes / 512);
  CHECK(tally.places.count() == tally.sectors);
  CHECK(tally.sectors * 10 <= structures * 11);
  MESSAGE("read: " << in_fat << " sectors of one FAT, " << in_data - in_files << " of folders, "
                   << in_files << " of files that move; written: " << tally.sectors << " in "
                   << tally.calls << " pieces, for structures of " << structures);
}

TEST_CASE("ntfs: names that Win32 forbids go into the POSIX name space, and are counted") {
  const std::vector<std::string> forbidden = {"a:b.txt",  "what?.csv", "pipe|.x",     "star*",
                                              "less<",    "more>",     "quote\"",     "back\\slash",
                                              "bell\x07", "dot.",      "blank ",      "AUX",
                                              "con.txt",  "COM1.log",  "lpt\xC2\xB2", "NUL.tar.gz"};
  const std::vector<std::string> allowed = {"AUXILIARY", "COM10",   "con-txt", ".dot",
                                            "a name",    "COM.LOG", "AB+C.TXT"};
  const support::NtfsBytes v([&](FatWriter& w) {
    for (const std::string& name : forbidden) w.add_file(name, {});
    for (const std::string& name : allowed) w.add_file(name, {});
    w.add_file("PLAIN.TXT", {});
    w.add_file("AXB.TXT", {});
  });
  CHECK(check_volume(*v.disk, utc()).empty());
  const auto spaces = [&v](const std::string& name) {
    const std::uint64_t n = v.record_of(to_utf16(name));
    std::string out;
    for (int i = 0; i < static_cast<int>(support::little(v.record(n), 18, 2)); ++i)
      out += std::to_string(v.record(n)[v.attribute(n, 0x30, i) + 24 + 65]);
    return out;
  };
  for (const std::string& name : forbidden) {
    CAPTURE(name);
    CHECK(spaces(name) == "0");
  }
  for (const std::string& name : allowed) {
    CAPTURE(name);
    const std::string is = spaces(name);
    CHECK((is == "12" || is == "3"));
  }
  CHECK(spaces("PLAIN.TXT") == "3");

  // An 8.3 name with a blank inside is nobody's short name.
  const auto disk = support::disk(80000, 512);
  FatFormat format;
  format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  writer.add_file("AXB.TXT", {});
  for (const std::string& name : forbidden) writer.add_file(name, {});
  writer.finish();
  const auto first = open_volume(*disk, utc())->info().first_cluster;
  Bytes root = disk->read(first);
  REQUIRE(root[1] == 'X');
  root[1] = ' ';
  disk->write(first, root);
  const Assessment a = assessed(*disk);
  CHECK(std::any_of(a.consents.begin(), a.consents.end(), [](const Consent& c) {
    return c.code == ConsentCode::names && c.text.starts_with("16 names ") &&
           c.detail.find("'a:b.txt'") != c.detail.npos;
  }));
  convert(*disk);
}

TEST_CASE("ntfs: $UpCase holds pairs that lead to each other, as old as published tables") {
  const support::NtfsBytes v;
  const Bytes table = v.disk->read(v.sector_of(10, 0x80), 256);
  const auto upper = [&table](std::size_t c) { return support::little(table, 2 * c, 2); };
  std::map<std::uint64_t, std::size_t> small;
  std::size_t changes = 0;
  for (std::size_t c = 0; c < 65536; ++c) {
    if (upper(c) == c) continue;
    ++changes;
    CHECK(upper(upper(c)) == upper(c));
    CHECK(small.emplace(upper(c), c).second);  // two that fold to one would not lead back
  }
  for (const std::size_t c : {0xB5, 0x345, 0x17F, 0x1C5, 0x131, 0x1C80, 0x10D0, 0x10FF, 0xAB70,
                              0x13F8, 0x1E9E, 0x2C5F, 0xA641})
    CHECK(upper(c) == c);
  const std::vector<std::pair<std::size_t, std::size_t>> pairs = {
      {'a', 'A'},       {0xE9, 0xC9},     {0xFF, 0x178},    {0x451, 0x401}, {0x3C9, 0x3A9},
      {0x1E01, 0x1E00}, {0x24D0, 0x24B6}, {0xFF41, 0xFF21}, {0x1C6, 0x1C4}, {0x2D00, 0x10A0}};
  for (const auto& [from, to] : pairs) CHECK(upper(from) == to);
  MESSAGE(changes << " characters have another as their capital");
}

TEST_CASE("ntfs: aged volumes with small clusters: what is read first lies in one piece") {
  std::uint64_t converted = 0, made_way = 0, switches = 0, moved = 0, files = 0;
  const std::uint64_t seeds = support::is_long() ? 600 : 64;
  for (std::uint64_t seed = 1; seed <= seeds; ++seed) {
    CAPTURE(seed);
    const volumes::Aged volume = volumes::aged(support::seed(seed));
    const auto device = support::disk(volume.sectors, 512);
    volume.make(*device);
    if (const Assessment a = assessed(*device); !a.in_reach()) {
      MESSAGE(seed << ": " << a.obstacles[0].text);
      continue;
    }
    const Converted done = convert(*device);
    ++converted;
    files += done.result.files;
    const auto& steps = done.assessment.steps;
    switches += steps.size() - 1;
    made_way += steps.size() > 1 ? 1 : 0;
    for (std::size_t i = 0; i + 1 < steps.size(); ++i) moved += steps[i].volume()->writes;
  }
  MESSAGE(converted << " of " << seeds << " aged volumes with " << files
                    << " files converted and put back; in " << made_way
                    << " way was made first, by " << switches << " switches that wrote " << moved
                    << " sectors");
  CHECK(converted == seeds);
  CHECK(made_way > 0);
}

TEST_CASE("ntfs: random volumes become NTFS, sound and with every file, and go back to the byte") {
  std::uint64_t converted = 0, refused = 0, files = 0, moved = 0;
  for (std::uint64_t seed = 1; seed <= (support::is_long() ? 2000u : 100u); ++seed) {
    CAPTURE(seed);
    Random random(support::seed(seed));
    const std::uint32_t sector_size = random.below(4) == 0 ? 4096 : 512;
    FatFormat format;
    const std::uint64_t which = random.below(3);
    format.kind = which == 0   ? VolumeKind::fat12
                  : which == 1 ? VolumeKind::fat16
                               : VolumeKind::fat32;
    format.cluster_sectors = 1u << random.below(sector_size == 512 ? 6 : 3);
    format.reserved_sectors = static_cast<std::uint32_t>(1 + random.below(70));
    if (format.kind == VolumeKind::fat32 && format.reserved_sectors < 9)
      format.reserved_sectors = 9;
    format.root_entries = static_cast<std::uint32_t>(16 * (8 + random.below(30)));
    format.fats = static_cast<std::uint32_t>(1 + random.below(2));
    const std::uint64_t clusters = which == 0   ? 1500 + random.below(2500)
                                   : which == 1 ? 4200 + random.below(20000)
                                                : 66000 + random.below(20000);
    const std::uint64_t overhead = format.reserved_sectors + 4 * clusters * 2 / sector_size + 60 +
                                   format.root_entries * 32 / sector_size;
    const auto device =
        support::disk(clusters * format.cluster_sectors + overhead + random.below(50), sector_size);
    FatWriter writer(*device, format);
    const std::uint64_t cluster = std::uint64_t{format.cluster_sectors} * sector_size;
    std::string folder;
    bool full = false;
    const std::uint64_t count = 5 + random.below(60);
    for (std::uint64_t i = 0; i < count; ++i) {
      if (random.below(6) == 0) {
        folder = (random.below(2) == 0 ? folder : std::string()) + fmt::format("folder {}", i);
        writer.add_directory(folder);
        folder += "/";
      }
      FatFileInfo info;
      info.attributes = static_cast<std::uint32_t>(random.below(2) * 0x20 + random.below(8));
      info.modified = parse_time("2031-05-06T07:08:10Z") +
                      static_cast<Ticks>(random.below(1u << 20)) * 2 * ticks_per_second;
      info.placement = static_cast<Placement>(random.below(3));
      const std::uint64_t most = std::min<std::uint64_t>(
          std::uint64_t{writer.free_clusters()} / 8 * cluster, 60 * cluster);
      const std::uint64_t size = random.below(5) == 0 ? 0 : random.below(most + 1);
      const std::string name =
          random.below(2) == 0 ? fmt::format("F{}.BIN", i)
                               : fmt::format("Запись {} of {}.csv", i, std::string(i % 90, 'y'));
      try {
        writer.add_file(folder + name, noise(size, seed + i), info);
      } catch (const Error&) {
        full = true;  // the writer has no place of that kind left
        break;
      }
    }
    if (full) continue;
    writer.finish();
    if (const Assessment a = assessed(*device); !a.in_reach()) {
      const std::string code = name_of(a.obstacles[0]);
      CHECK_MESSAGE((code == "volume-room" || code == "room-in-pieces"), a.obstacles[0].text);
      ++refused;
      continue;
    }
    const Converted done = convert(*device);
    ++converted;
    files += done.result.files;
    moved += done.assessment.steps[0].volume()->moved_clusters;
  }
  CHECK(converted > 50);
  MESSAGE(converted << " volumes with " << files << " files converted and put back, " << refused
                    << " refused for want of room; " << moved << " clusters moved");
}

// Shadow edits on NTFS volumes of every kind: what was to be free is free, every rule is kept, and
// everything else is equal, record by record.

#include "ntfs/edit.h"

#include <map>
#include <set>

#include <fmt/core.h>

#include <nuvrat/nuvrat.h>

#include "base/record.h"
#include "ntfs/folder_index.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;

namespace {

// A FAT volume turned into NTFS on a disk in memory; made once.
std::unique_ptr<MemoryDevice> as_ntfs(const volumes::Volume& volume) {
  static std::map<std::string, std::unique_ptr<MemoryDevice>> made;
  if (const auto it = made.find(volume.name); it != made.end())
    return it->second == nullptr ? nullptr : it->second->clone();
  std::unique_ptr<MemoryDevice>& out = made[volume.name];
  auto disk = support::disk(volume.sectors, volume.sector_size);
  volume.make(*disk);
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  Random random(1);
  const Assessment a = assess(*disk, {parse_goal("volume=ntfs")}, support::utc(), random);
  JobOptions options = support::case_in_memory(folder / "case");
  if (!a.in_reach()) return nullptr;
  REQUIRE(run_job(*disk, a, options, quiet).sound());
  out = disk->clone();
  return disk;
}

// CRC-32s of what lies in its clusters, and their number.
std::vector<std::uint64_t> contents_of(const ntfs::Volume& volume, const ntfs::AttributeView& a) {
  std::vector<std::uint64_t> out{0};
  std::uint64_t sum = 0;
  for (const tree::Run& r : a.runs) {
    out[0] += r.count;
    if (r.lcn == tree::Run::hole) continue;
    for (std::uint64_t c = 0; c < r.count; ++c) {
      const Bytes bytes =
          volume.device().read((r.lcn + c) * volume.cluster_sectors(), volume.cluster_sectors());
      sum = sum * 31 + crc32(bytes);  // the runs may be cut otherwise
    }
  }
  out.push_back(sum);
  return out;
}

// Whether anything but runs differs; $MFT, its mirror and the bitmaps say where things are, and so
// must differ in their contents.
void must_be_equal(const Device& before, const Device& after, bool resized, bool relabelled,
                   const std::set<std::uint64_t>& touched) {
  const ntfs::Volume a(before);
  const ntfs::Volume b(after);
  REQUIRE(a.records() == b.records());
  std::size_t compared = 0;
  a.each_record([&](std::uint64_t number, ByteSpan old, ntfs::Volume::RecordState state) {
    if (state != ntfs::Volume::RecordState::sound) return;
    const auto head = base::load<ntfs::FileRecord>(old);
    if ((head.flags.value() & ntfs::record_in_use) == 0 || head.base.value() != 0) return;
    Bytes now;
    if (b.read_record(number, now) != ntfs::Volume::RecordState::sound) FAIL("record " << number);
    const auto now_head = base::load<ntfs::FileRecord>(now);
    const bool same_head = head.sequence.value() == now_head.sequence.value() &&
                           head.flags.value() == now_head.flags.value() &&
                           head.links.value() == now_head.links.value() &&
                           head.lsn.value() == now_head.lsn.value();
    if (!same_head) FAIL("the head of record " << number);
    const auto x = a.attributes(number, old);
    const auto y = b.attributes(number, now);
    std::size_t j = 0;
    for (const ntfs::AttributeView& v : x) {
      const auto passed = [&](std::uint32_t type) {
        const bool contents = type == ntfs::at_data || type == ntfs::at_index_root ||
                              type == ntfs::at_index_allocation || type == ntfs::at_bitmap ||
                              type == ntfs::at_file_name;
        return type == ntfs::at_attribute_list || (relabelled && type == ntfs::at_volume_name) ||
               (contents && touched.count(number) != 0);
      };
      if (passed(v.type)) continue;
      while (j < y.size() && passed(y[j].type)) ++j;
      if (j == y.size()) FAIL("an attribute of record " << number << " is gone");
      const ntfs::AttributeView& w = y[j++];
      if (resized && (number == ntfs::record_bitmap || number == ntfs::record_bad) &&
          v.type == ntfs::at_data)
        continue;
      const bool special = number == ntfs::record_mft || number == ntfs::record_mirror ||
                           number == ntfs::record_bitmap || number == ntfs::record_boot;
      const bool same = v.type == w.type && v.name == w.name && v.flags == w.flags &&
                        v.resident == w.resident && (special || v.value == w.value) &&
                        v.allocated == w.allocated && v.size == w.size &&
                        v.initialised == w.initialised && v.occupied == w.occupied &&
                        v.compression_unit == w.compression_unit &&
                        (special || v.resident || contents_of(a, v) == contents_of(b, w));
      if (!same) FAIL("attribute " << v.type << " of record " << number);
      ++compared;
    }
  });
  CHECK(compared > 50);
}

struct Tries {
  int done = 0, refused = 0, with_lists = 0;
};

struct Change {
  tree::Run vacate{};
  std::uint64_t sectors = 0;  // of the volume with its second boot sector; 0: as it is
  std::optional<std::u16string> label{};
  std::uint64_t front = 0;  // clusters that it begins earlier
  std::vector<tree::PutFile> files{};
};

// The records whose files or folders these paths name, as far as they are there.
std::set<std::uint64_t> touched_by(const Device& disk, const std::vector<tree::PutFile>& files) {
  std::set<std::uint64_t> out;
  const ntfs::Volume volume(disk);
  for (const tree::PutFile& file : files) {
    std::uint64_t at = ntfs::record_root;
    for (std::size_t begin = 0; begin < file.path.size();) {
      out.insert(at);
      const std::size_t end = std::min(file.path.find('/', begin), file.path.size());
      const std::u16string name = to_utf16(file.path.substr(begin, end - begin));
      begin = end + 1;
      const ntfs::FolderNames names = ntfs::read_folder_index(volume, at, volume.attributes(at));
      const auto it = std::find_if(names.names.begin(), names.names.end(),
                                   [&name](const ntfs::IndexedName& n) { return n.name == name; });
      if (it == names.names.end()) break;
      at = ntfs::record_of(it->reference);
      if (begin > file.path.size()) out.insert(at);
    }
  }
  return out;
}

// The disk as long as it is to be, from `first` on; what is added has something in it.
std::unique_ptr<MemoryDevice> as_long_as(const MemoryDevice& disk, std::uint64_t sectors,
                                         std::uint64_t first = 0) {
  auto out = support::disk(sectors, disk.sector_size());
  constexpr std::uint64_t piece = 4096;
  const std::uint64_t kept = std::min(sectors - first, disk.sectors());
  for (std::uint64_t at = 0; at < kept; at += piece)
    out->write(first + at, disk.read(at, std::min(piece, kept - at)));
  for (const SectorRange& r :
       {SectorRange{0, first}, SectorRange{first + kept, sectors - first - kept}}) {
    for (std::uint64_t at = 0; at < r.count; at += piece)
      out->write(r.first + at, Bytes(std::min(piece, r.count - at) * disk.sector_size(), 0x5A));
  }
  return out;
}

// The disk afterwards; none where it was refused.
std::unique_ptr<MemoryDevice> try_edit(const MemoryDevice& disk, const Change& change,
                                       Tries& tries) {
  const ntfs::Geometry g = ntfs::Volume(disk).geometry();
  const std::uint64_t spc = g.cluster_sectors;
  const std::uint64_t before = g.total_sectors + 1;
  const std::uint64_t front = change.front * spc;
  const std::uint64_t sectors = front + (change.sectors == 0 ? before : change.sectors);
  ntfs::EditRequest request{
      .label = change.label, .files = change.files, .made = 132000000000000000};
  if (change.vacate.count > 0) request.vacate = {change.vacate};
  if (front > 0) {
    request.front = change.front;
  } else if (sectors != before) {
    request.clusters = (sectors - 1) / spc;
    request.avoid = {{(before - 1) / spc, 1}};
  }
  const auto tried = ntfs::lay_out(disk, std::move(request));
  if (const auto* trouble = std::get_if<ntfs::EditTrouble>(&tried)) {
    ++tries.refused;
    MESSAGE("refused: " << static_cast<int>(trouble->kind) << ", " << trouble->needed << " needed, "
                        << trouble->free << " free");
    return nullptr;
  }
  const auto& edit = std::get<ntfs::Edit>(tried);
  auto after = as_long_as(disk, std::max(sectors, disk.sectors()), front);
  const SectorSet owned = open_volume(disk, support::utc())->owned();
  std::uint64_t written = 0;
  const std::string guard = "a sector that is in use was written";
  edit.write({[&](std::uint64_t sector, ByteView data) {
                const std::uint64_t count = data.size() / disk.sector_size();
                if (sector >= front && owned.first_overlap({sector - front, count})) FAIL(guard);
                after->write(sector, data);
                written += count;
              },
              [](std::string_view) {}});
  CHECK(written <= edit.written_clusters() * spc);
  // Until the boot sector is written, the volume is the old one.
  const Window old(*after, {front, disk.sectors()});
  const auto reader = open_volume(old, support::utc());
  CHECK(reader->owned() == owned);
  Bytes boot = after->read(front);
  support::put(boot, 0x28, sectors - 1, 8);
  support::put(boot, 0x30, edit.mft_lcn(), 8);
  support::put(boot, 0x38, edit.mirror_lcn(), 8);
  after->write(0, boot);
  after->write(sectors - 1, boot);
  if (sectors < disk.sectors()) after = as_long_as(*after, sectors);
  const Findings findings = check_volume(*after, support::utc());
  for (const Finding& f : findings)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text << " " << f.place.text());
  CHECK(findings.empty());
  const auto now = open_volume(*after, support::utc());
  if (change.vacate.count > 0)
    CHECK_FALSE(now->owned().first_overlap({change.vacate.lcn * spc, change.vacate.count * spc}));
  CHECK(now->info().sectors == sectors - 1);
  if (change.label) CHECK(now->info().label == to_utf8(*change.label));
  for (const tree::PutFile& file : change.files) {
    CAPTURE(file.path);
    Bytes read;
    read_file(*now, file.path,
              [&read](ByteView piece) { read.insert(read.end(), piece.begin(), piece.end()); });
    CHECK(read == file.contents);
  }
  must_be_equal(disk, *after, sectors != before, change.label.has_value(),
                touched_by(disk, change.files));
  tries.with_lists += edit.rebuilt_files() > 0 ? 1 : 0;
  ++tries.done;
  return after;
}

std::unique_ptr<MemoryDevice> try_to_free(const MemoryDevice& disk, tree::Run wanted,
                                          Tries& tries) {
  return try_edit(disk, Change{wanted}, tries);
}

}  // namespace

TEST_CASE("edit: another size, another label, and nothing else changes") {
  Random random(support::seed(9));
  Tries tries;
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    // What several GiB of contents would add is only that.
    const bool large = volume.sectors * volume.sector_size > (std::uint64_t{1} << 30);
    if (large && !support::is_long()) continue;
    const auto disk = as_ntfs(volume);
    if (disk == nullptr) continue;
    const std::uint64_t sectors = disk->sectors();
    // Longer by a little, longer by much, shorter; and with another label.
    for (const std::uint64_t wanted :
         {sectors + 1 + random.below(600), sectors + sectors / 2 + random.below(sectors),
          sectors - sectors / 10 - random.below(sectors / 2)}) {
      CAPTURE(wanted);
      Change change{{}, wanted, {}};
      if (wanted % 2 == 0) change.label = u"Orrelune " + to_utf16(std::to_string(wanted % 1000));
      const auto there = try_edit(*disk, change, tries);
      // And back: as long as it was.
      if (there != nullptr) (void)try_edit(*there, Change{{}, sectors, u""}, tries);
    }
    (void)try_edit(*disk, Change{{}, 0, u"thirty-two units of a label, ab\u00E9"}, tries);
    (void)try_edit(*disk, Change{{}, 0, u""}, tries);
  }
  MESSAGE(tries.done << " edits, " << tries.refused << " refused");
  CHECK(tries.done > 50);
}

TEST_CASE("edit: new files and new contents, and nothing else changes") {
  Random random(support::seed(12));
  Tries tries;
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    if (volume.sectors * volume.sector_size > (std::uint64_t{2} << 30)) continue;
    const auto disk = as_ntfs(volume);
    if (disk == nullptr) continue;
    std::vector<tree::PutFile> files = {
        {"Start/Store", volumes::noise(24576, 1), attr_hidden, 0},
        {"starter", volumes::noise(70001, 2), attr_system, 0},
        {"Start/empty.txt", {}, 0, 0},
        {"Start/de-DE/a name that is long.mui", volumes::noise(1, 3), 0, 0}};
    // Files that are there: as long as they were, longer, empty.
    const auto reader = open_volume(*disk, support::utc());
    const FileTree& tree = reader->tree();
    int found = 0;
    for (FileTree::Id id = 1; id < tree.size() && found < 6; ++id) {
      const bool plain = !tree.is_directory(id) && !tree.is_stream(id) &&
                         tree.link(id) == FileTree::none && tree.bytes(id) > 0 &&
                         tree.bytes(id) < (1u << 20);
      if (!plain) continue;
      const std::uint64_t size = found % 3 == 0   ? tree.bytes(id)
                                 : found % 3 == 1 ? tree.bytes(id) * 2 + 1000
                                                  : 0;
      files.push_back({tree.path(id), volumes::noise(size, 4), 0, 0});
      ++found;
    }
    const auto there = try_edit(*disk, Change{{}, 0, {}, 0, files}, tries);
    if (there == nullptr) continue;
    // Once more, with what is new by now, among it a folder that outgrows its record; a place free.
    files.resize(2);
    for (tree::PutFile& file : files)
      file.contents = volumes::noise(file.contents.size() + 5000, 5);
    for (int i = 0; i < 20; ++i)
      files.push_back({fmt::format("Start/many/{}{}", std::string(200, 'n'), i), {}, 0, 0});
    (void)try_edit(*there, Change{{900 + random.below(300), 60}, 0, u"new", 0, files}, tries);
  }
  MESSAGE(tries.done << " edits, " << tries.refused << " refused");
  CHECK(tries.done > 15);

  const auto disk = as_ntfs(volumes::all()[0]);
  REQUIRE(disk != nullptr);
  const auto refuses = [&disk](const std::string& path) {
    ntfs::EditRequest request{.files = {{path, {}, 0, 0}}};
    CHECK_THROWS_AS((void)ntfs::lay_out(*disk, std::move(request)), const Error&);
  };
  for (const char* path : {"", "/", "a//b", "a/", "NUL", "a:b", "$MFT/x", "$Extend"}) refuses(path);
}

TEST_CASE("edit: a volume begins earlier, and nothing else changes") {
  Random random(support::seed(10));
  Tries tries;
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    // What several GiB of contents would add is only that.
    if (volume.sectors * volume.sector_size > (std::uint64_t{2} << 30)) continue;
    const auto disk = as_ntfs(volume);
    if (disk == nullptr) continue;
    // The least, any number of bits in $Bitmap, and so much that first runs get longer.
    const std::uint64_t least = ntfs::boot_clusters(ntfs::Volume(*disk).geometry());
    for (const std::uint64_t front : {least, least + 1 + random.below(600), least + 33001}) {
      CAPTURE(front);
      Change change;
      change.front = front;
      if (front % 2 == 0) change.label = u"Vorne";
      (void)try_edit(*disk, change, tries);
    }
  }
  MESSAGE(tries.done << " edits, " << tries.with_lists << " with new lists, " << tries.refused
                     << " refused");
  CHECK(tries.done > 20);
}

TEST_CASE("edit: any range is made free, and nothing else changes") {
  Random random(support::seed(7));
  Tries tries;
  for (const volumes::Volume& volume : volumes::all()) {
    CAPTURE(volume.name);
    const auto disk = as_ntfs(volume);
    if (disk == nullptr) continue;
    const ntfs::Volume ntfs(*disk);
    const std::uint64_t clusters = ntfs.geometry().clusters();
    const std::uint64_t boot = div_up<std::uint64_t>(8192, ntfs.geometry().cluster_bytes());
    // Where $MFT begins, its mirror, the front, the back, and anywhere.
    std::vector<tree::Run> ranges = {{ntfs.geometry().mft_lcn, 3},
                                     {ntfs.geometry().mirror_lcn, 1},
                                     {boot, clusters / 20},
                                     {clusters - clusters / 20 - 1, clusters / 20}};
    for (int i = 0; i < 2; ++i) {
      const std::uint64_t count = 1 + random.below(clusters / 10);
      ranges.push_back({boot + random.below(clusters - boot - count), count});
    }
    for (const tree::Run& r : ranges) {
      CAPTURE(r.lcn);
      CAPTURE(r.count);
      if (r.lcn >= boot && r.lcn + r.count <= clusters) (void)try_to_free(*disk, r, tries);
    }
  }
  MESSAGE(tries.done << " edits, " << tries.refused << " refused");
  CHECK(tries.done > 35);
}

namespace {

// One file in one piece, and room enough for it elsewhere, in single clusters.
void make_spread(Device& device) {
  FatFormat format;
  format.cluster_sectors = 1;
  volumes::align_data(format, device.sectors(), 512, true);
  FatWriter writer(device, format);
  writer.add_directory("TIDES");
  writer.add_file("TIDES/ROOM", volumes::noise(7000 * 512, 1));
  writer.add_file("WHOLE", volumes::noise(6000 * 512, 2));
  for (int i = 0; i < 60; ++i) writer.add_file(fmt::format("SMALL{}", i), volumes::noise(600, 3));
  FatFileInfo scattered;
  scattered.placement = Placement::scattered;
  writer.add_file("SPREAD", volumes::noise(51200 * 512, 4), scattered);
  writer.finish();
  volumes::delete_files(device, [](std::size_t i) { return i == 0; });
}

}  // namespace

TEST_CASE("edit: a file that goes into pieces gets an attribute list") {
  Tries tries;
  const auto disk = as_ntfs({"spread", 120000, 512, make_spread});
  REQUIRE(disk != nullptr);
  const auto reader = open_volume(*disk, support::utc());
  const FileTree& tree = reader->tree();
  const auto whole = tree.extents(tree.find("WHOLE"));
  REQUIRE(whole.size() == 1);
  for (const std::uint64_t part : {whole[0].count, whole[0].count / 2, std::uint64_t{300}})
    (void)try_to_free(*disk, {whole[0].first + 7, part - 14}, tries);
  MESSAGE(tries.done << " edits, " << tries.with_lists << " with new lists, " << tries.refused
                     << " refused");
  CHECK(tries.with_lists > 1);

  // One edit after the other, on what the one before left.
  Random random(3);
  auto here = disk->clone();
  for (int i = 0; i < 12; ++i) {
    CAPTURE(i);
    const std::uint64_t count = 200 + random.below(6000);
    auto next = try_to_free(*here, {16 + random.below(119000 - count), count}, tries);
    if (next != nullptr) here = std::move(next);
  }
  MESSAGE(tries.done << " edits, " << tries.with_lists << " with new lists, $MFT in "
                     << ntfs::Volume(*here).attributes(0)[2].runs.size() << " pieces");
  CHECK(tries.done > 8);
}

namespace {

// What is free lies in holes of one record, so that $MFT does as well.
void make_record_holes(Device& device) {
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 2;
  volumes::align_data(format, device.sectors(), 512, true);
  FatWriter writer(device, format);
  writer.add_directory("TIDES");
  writer.add_file("TIDES/ROOM", volumes::noise(2650 * 1024, 1));
  writer.add_directory("D");
  for (int i = 0; i < 1500; ++i) writer.add_file(fmt::format("D/R{}", i), volumes::noise(900, 3));
  FatFileInfo scattered;
  scattered.placement = Placement::scattered;
  writer.add_file("SPREAD", volumes::noise(std::size_t{writer.free_clusters() / 2 - 20} * 1024, 4),
                  scattered);
  writer.finish();
  volumes::delete_files(device, [](std::size_t i) { return i == 0; });
}

std::size_t pieces_of_mft(const Device& disk) {
  const auto all = ntfs::Volume(disk).attributes(0);
  return ntfs::find_attribute(all, ntfs::at_data)->runs.size();
}

}  // namespace

TEST_CASE("edit: $MFT in more than a thousand pieces") {
  const auto disk = as_ntfs({"record holes", 40000, 512, make_record_holes});
  REQUIRE(disk != nullptr);
  MESSAGE("$MFT in " << pieces_of_mft(*disk) << " pieces");
  CHECK(pieces_of_mft(*disk) > 1000);
  Tries tries;
  Random random(3);
  const auto all = ntfs::Volume(*disk).attributes(0);
  const tree::Runs& mft = ntfs::find_attribute(all, ntfs::at_data)->runs;
  for (const std::size_t piece : {std::size_t{1}, mft.size() / 2, mft.size() - 1})
    (void)try_to_free(*disk, {mft[piece].lcn, 2}, tries);
  for (int i = 0; i < 6; ++i)
    (void)try_to_free(*disk, {16 + random.below(39000), 1 + random.below(60)}, tries);
  MESSAGE(tries.done << " edits, " << tries.refused << " refused");
  CHECK(tries.done > 5);
}

TEST_CASE("edit: volumes of short holes") {
  Random random(11);
  Tries tries;
  for (std::uint64_t seed = 1; seed <= 12; ++seed) {
    const volumes::Aged aged = volumes::aged(seed);
    const auto disk = as_ntfs({fmt::format("aged {}", seed), aged.sectors, 512, aged.make});
    if (disk == nullptr) continue;
    CAPTURE(seed);
    const ntfs::Volume ntfs(*disk);
    const std::uint64_t clusters = ntfs.geometry().clusters();
    for (int i = 0; i < 4; ++i) {
      const std::uint64_t count = 1 + random.below(clusters / 12);
      const tree::Run r{16 + random.below(clusters - 16 - count), count};
      CAPTURE(r.lcn);
      CAPTURE(r.count);
      (void)try_to_free(*disk, r, tries);
    }
  }
  MESSAGE(tries.done << " edits, " << tries.refused << " refused");
  CHECK(tries.done > 20);
}

#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/core.h>

#include "ntfs_bytes.h"
#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::manifest_of;
using support::NtfsBytes;

namespace {

// A disk that is one FAT volume with the station's files.
std::unique_ptr<MemoryDevice> station(std::uint64_t seed = 4) {
  auto device = support::disk(64000);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 2;
  format.label = "STATION";
  Random random(seed);
  FatWriter writer(*device, format);
  orrelune::fill_volume(writer, random, 30);
  writer.finish();
  return device;
}

std::string slurp(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

}  // namespace

TEST_CASE("manifest: saved and loaded it is the same") {
  const support::Folder folder;
  const auto device = station();
  const Manifest taken = manifest_of(*device);
  CHECK(taken.files() > 60);
  CHECK(save_manifest(taken, folder / "m") == taken.seal());
  const Manifest loaded = load_manifest(folder / "m");
  CHECK(loaded.seal() == taken.seal());
  CHECK(loaded.seal().size() == 29);
  CHECK(compare(taken, loaded).equal());
  save_manifest(loaded, folder / "again");
  CHECK(slurp(folder / "m") == slurp(folder / "again"));
}

TEST_CASE("files: read by their paths they are what the manifest recorded, on FAT and NTFS") {
  const NtfsBytes ntfs;
  const auto fat = station();
  for (Device* disk : {static_cast<Device*>(fat.get()), static_cast<Device*>(ntfs.disk.get())}) {
    const Manifest m = manifest_of(*disk);
    const auto reader = open_volume(*disk, support::utc());
    const ManifestVolume& v = m.volumes.at(0);
    for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
      CHECK(v.tree.find(v.tree.path(id)) == id);
      if (v.tree.is_directory(id)) continue;
      Sha256 hash;
      read_file(*reader, v.tree.path(id), [&hash](ByteView piece) { hash.add(piece); });
      CHECK(hash.finish() == v.digests[id]);
    }
    CHECK(v.tree.find("") == FileTree::root);
    CHECK(v.tree.find("no such file") == FileTree::none);
    const auto nothing = [](ByteView) {};
    CHECK(code_of([&] { read_file(*reader, "no such file", nothing); }) == ErrorCode::words);
    CHECK(code_of([&] { read_file(*reader, "", nothing); }) == ErrorCode::words);
  }
}

TEST_CASE("manifest: any change of a line is noticed, with its number") {
  const support::Folder folder;
  save_manifest(manifest_of(*station()), folder / "m");
  std::istringstream in(slurp(folder / "m"));
  std::vector<std::string> lines;
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  const auto write_and_load = [&](const std::vector<std::string>& changed) {
    std::ofstream out(folder / "changed");
    for (const std::string& line : changed) out << line << '\n';
    out.close();
    return code_of([&] { (void)load_manifest(folder / "changed"); });
  };
  auto cut = lines;
  cut.pop_back();
  CHECK(write_and_load(cut) == ErrorCode::file);
  auto gone = lines;
  gone.erase(gone.begin() + 20);
  CHECK(write_and_load(gone) == ErrorCode::file);
  auto garbage = lines;
  garbage[10] = "{\"path\": 7}";
  CHECK(write_and_load(garbage) == ErrorCode::file);
  try {
    (void)load_manifest(folder / "changed");
  } catch (const Error& e) {
    CHECK(e.place().path.find("line 11") != std::string::npos);
  }
  CHECK(code_of([&] { (void)load_manifest(folder / "none"); }) == ErrorCode::words);
}

TEST_CASE("manifest: the ordinary checksum program accepts the lines on an extracted copy") {
  const support::Folder folder;
  const auto device = station();
  const auto reader = open_volume(*device, {});
  const FileTree& tree = reader->tree();
  tree.walk([&](FileTree::Id id) {
    const auto path = folder.path() / "copy" / tree.path(id);
    if (tree.is_directory(id)) {
      std::filesystem::create_directories(path);
      return;
    }
    std::filesystem::create_directories(path.parent_path());
    std::ofstream out(path, std::ios::binary);
    std::uint64_t left = tree.bytes(id);
    for (const SectorRange& e : tree.extents(id)) {
      const Bytes bytes = device->read(e.first, e.count);
      const std::uint64_t n = std::min<std::uint64_t>(left, bytes.size());
      out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(n));
      left -= n;
    }
  });
  save_sha256sum(manifest_of(*device), folder / "sums", false);
  const auto ran = support::run(
      fmt::format("cd {}/copy && sha256sum -c --strict --quiet ../sums", folder.path().string()));
  CHECK(ran.status == 0);
  CHECK(ran.errors == "");
  std::ofstream(folder / "copy/CALIB/NOTE01.TXT") << "changed";
  CHECK(support::run(
            fmt::format("cd {}/copy && sha256sum -c --quiet ../sums", folder.path().string()))
            .status == 1);
}

TEST_CASE("manifest: every kind of difference is named with its path") {
  const auto base = station();
  const Manifest before = manifest_of(*base);
  const auto reader = open_volume(*base, {});
  const FileTree& tree = reader->tree();
  FileTree::Id some = FileTree::none;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (tree.path(id) == "CALIB/NOTE02.TXT") some = id;
  }
  REQUIRE(some != FileTree::none);
  const std::uint64_t lba = tree.extents(some)[0].first;

  SUBCASE("contents") {
    Bytes sector = base->read(lba);
    sector[3] ^= 1;
    base->write(lba, sector);
    const Comparison c = compare(before, manifest_of(*base));
    REQUIRE(c.count == 1);
    CHECK(c.differences[0].kind == DifferenceKind::content);
    CHECK(c.differences[0].path == "CALIB/NOTE02.TXT");
    CHECK(c.seal_before != c.seal_after);
  }
  SUBCASE("another set of files") {
    Manifest other = before;
    FileTree changed;
    changed.set_precision(before.volumes[0].tree.precision());
    changed.add(FileTree::root, u"CALIB", u"", {true, 0, 0, 0, 0, 0});
    changed.add(FileTree::root, u"new.csv", u"", {false, 0x20, 0, 0, 0, 0});
    other.volumes[0].tree = changed;
    other.volumes[0].digests.assign(3, Digest{});
    const Comparison c = compare(before, other);
    CHECK(c.count > 10);
    bool extra = false;
    for (const Difference& d : c.differences)
      extra |= d.kind == DifferenceKind::extra && d.path == "new.csv";
    CHECK(extra);
  }
  SUBCASE("a volume that is gone") {
    Manifest none = before;
    none.volumes.clear();
    CHECK(compare(before, none).differences[0].kind == DifferenceKind::volume);
  }
  SUBCASE("times as far as the coarser side can tell") {
    const auto shifted = [&before](Ticks by) {
      Manifest out = before;
      FileTree t;
      t.set_precision({1, 1, 1});
      t.add(FileTree::root, u"a", u"", {false, 0, 0, 0, 1000 * ticks_per_second + by, 0});
      out.volumes[0].tree = t;
      out.volumes[0].digests.assign(2, Digest{});
      return out;
    };
    Manifest coarse = shifted(0);
    coarse.volumes[0].tree.set_precision({1, 2 * ticks_per_second, 1});
    CHECK(compare(coarse, shifted(ticks_per_second)).equal());
    CHECK_FALSE(compare(coarse, shifted(3 * ticks_per_second)).equal());
    CHECK_FALSE(compare(shifted(0), shifted(1)).equal());
  }
}

TEST_CASE("manifest: one hash of a range sees any bit, and holes cost nothing") {
  QuietProgress quiet;
  std::vector<ByteRange> unreadable;
  MemoryDevice device((1ull << 41) / 512 - 2048, 512);  // 2 TiB less 1 MiB
  device.write(12345678, Bytes(512, 7));
  // Holes are found by the device; this would take an hour if they were read.
  const Digest one = range_digest(device, {12340000, 1u << 22}, quiet, unreadable);
  Bytes sector = device.read(12345678);
  sector[511] ^= 1;
  device.write(12345678, sector);
  CHECK(range_digest(device, {12340000, 1u << 22}, quiet, unreadable) != one);
  CHECK(unreadable.empty());
}

TEST_CASE("manifest: names that are no Unicode and names with odd characters survive") {
  const support::Folder folder;
  Manifest m;
  m.zone = "UTC";
  ManifestVolume v;
  const char16_t lone[] = {u'a', 0xD800, u'b', 0};
  v.tree.add(FileTree::root, lone, u"", {false, 0, 0, 0, 0, 0});
  v.tree.add(FileTree::root, u"back\\slash\nline", u"", {false, 0, 0, 0, 0, 0});
  v.digests.resize(3);
  m.volumes.push_back(v);
  save_manifest(m, folder / "m");
  CHECK(load_manifest(folder / "m").volumes[0].tree.name(1) == m.volumes[0].tree.name(1));
  CHECK(compare(m, load_manifest(folder / "m")).equal());
  save_sha256sum(m, folder / "s", false);
  CHECK(slurp(folder / "s").find("\\0000") != std::string::npos);
  CHECK(slurp(folder / "s").find("back\\\\slash\\nline") != std::string::npos);
}

// The disks of the machine, and files looked at and copied out.

#include <filesystem>
#include <fstream>

#include <fmt/core.h>
#include <sys/stat.h>

#include "ntfs_bytes.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;
namespace fs = std::filesystem;

namespace {

const scenarios::Scenario& of_ntfs() {
  for (const scenarios::Scenario& s : scenarios::all()) {
    if (s.name == "NTFS to the front") return s;
  }
  throw std::runtime_error("that scenario has another name");
}

std::string text_of(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

Digest digest_of(const fs::path& path) {
  const std::string text = text_of(path);
  return Sha256::of({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}

}  // namespace

TEST_CASE("files: every file of every volume is copied as the manifest has it, streams and times") {
  QuietProgress quiet;
  std::uint64_t copied = 0, streams = 0;
  std::vector<std::unique_ptr<MemoryDevice>> disks;
  for (const scenarios::Scenario* scenario : {&scenarios::all()[0], &of_ntfs()}) {
    disks.push_back(std::make_unique<MemoryDevice>(scenario->sectors, scenario->sector_size));
    scenario->make(*disks.back());
  }
  support::NtfsBytes rare;  // packed, sparse, resident; streams
  (void)support::make_rare_contents(rare);
  disks.push_back(rare.disk->clone());
  for (const auto& each : disks) {
    const Device& disk = *each;
    const Manifest m = take_manifest(disk, utc(), quiet);
    for (const ManifestVolume& v : m.volumes) {
      CAPTURE(v.number);
      const support::Folder folder;
      OpenedVolume volume(disk, v.number, utc());
      CHECK(volume.start() == v.start);
      FetchOptions options;
      options.recorded = &v;
      const FetchResult result =
          fetch_files(volume.reader(), {"/"}, folder / "out", options, quiet);
      for (const FetchProblem& p : result.problems) MESSAGE(p.path << ": " << p.text);
      CHECK(result.problems.empty());
      CHECK(result.files == v.tree.file_count());
      CHECK(result.checked == result.files);
      CHECK(result.folders == v.tree.directory_count());
      v.tree.walk([&](FileTree::Id id) {
        const fs::path path = (folder / "out") / v.tree.path(id);
        REQUIRE(fs::exists(path));
        if (v.tree.is_directory(id)) return;
        CHECK(digest_of(path) == v.digests[id]);
        streams += v.tree.name(id).find(u':') != std::u16string_view::npos ? 1 : 0;
        ++copied;
        struct stat info {};
        REQUIRE(::stat(path.c_str(), &info) == 0);
        const Ticks modified = v.tree.info(id).modified;
        if (modified != 0)
          CHECK((info.st_mtim.tv_sec + seconds_to_1970) * ticks_per_second +
                    info.st_mtim.tv_nsec / 100 ==
                modified);
      });
      // Again: nothing is written over, unless that is wanted.
      FetchOptions plain;
      const FetchResult again = fetch_files(volume.reader(), {""}, folder / "out", plain, quiet);
      CHECK(again.files == 0);
      CHECK(again.problems.size() == v.tree.file_count());
      plain.overwrite = true;
      CHECK(fetch_files(volume.reader(), {""}, folder / "out", plain, quiet).files ==
            v.tree.file_count());
    }
  }
  MESSAGE(copied << " files copied, " << streams << " of them streams");
  CHECK(copied > 200);
  CHECK(streams > 0);
}

TEST_CASE("files: a hole stays one in the copy, however long, and the file is as recorded") {
  const support::NtfsBytes v;
  const std::uint64_t n = v.record_of(u"A.BIN");
  const std::uint64_t first = v.sector_of(n, 0x80);
  constexpr std::uint64_t hole = 1u << 17;  // clusters, which are sectors; the volume has fewer
  for (const bool at_end : {false, true}) {
    CAPTURE(at_end);
    Bytes pairs(16);
    support::put(pairs, at_end ? 5 : 0, 0x03, 1);
    support::put(pairs, at_end ? 6 : 1, hole, 3);
    support::put(pairs, at_end ? 0 : 4, 0x31, 1);
    support::put(pairs, at_end ? 1 : 5, 5, 1);
    support::put(pairs, at_end ? 2 : 6, first / v.spc, 3);
    const Bytes there = v.record(n);
    const std::size_t data = v.attribute(n, 0x80);
    v.replace(n, data, support::little(there, data + 4, 4),
              support::data_in_units(0x8000, 0, hole + 5, (hole + 5) * 512 - 100, 5, pairs));
    support::put_next_id(v, n);
    QuietProgress quiet;
    const Manifest m = take_manifest(*v.disk, utc(), quiet);
    OpenedVolume volume(*v.disk, 0, utc());
    const support::Folder folder;
    FetchOptions options;
    options.recorded = &m.volumes.at(0);
    const FetchResult result =
        fetch_files(volume.reader(), {"A.BIN"}, folder / "out", options, quiet);
    for (const FetchProblem& p : result.problems) MESSAGE(p.path << ": " << p.text);
    CHECK(result.checked == 1);
    struct stat info {};
    REQUIRE(::stat((folder / "out/A.BIN").c_str(), &info) == 0);
    CHECK(static_cast<std::uint64_t>(info.st_size) == (hole + 5) * 512 - 100);
    CHECK(info.st_blocks < 1024);
    CHECK(digest_of(folder / "out/A.BIN") == [&] {
      Bytes whole((hole + 5) * 512);
      const Bytes part = v.disk->read(first, 5);
      std::copy(part.begin(), part.end(), at_end ? whole.begin() : whole.end() - 5 * 512);
      whole.resize(whole.size() - 100);
      return Sha256::of(whole);
    }());
  }
}

TEST_CASE("files: paths as a person types them; what is wrong is said") {
  QuietProgress quiet;
  MemoryDevice disk(scenarios::all()[0].sectors, scenarios::all()[0].sector_size);
  scenarios::all()[0].make(disk);
  OpenedVolume volume(disk, 1, utc());
  const std::vector<FileEntry> root = list_files(volume.reader(), "");
  REQUIRE(root.size() > 3);
  CHECK(list_files(volume.reader(), "/").size() == root.size());
  const std::vector<FileEntry> calib = list_files(volume.reader(), "CALIB");
  REQUIRE_FALSE(calib.empty());
  for (const char* path : {"calib", "/Calib/", "\\CALIB\\", "./calib"})
    CHECK(list_files(volume.reader(), path).size() == calib.size());
  CHECK(calib[0].path.starts_with("CALIB/"));
  CHECK(list_files(volume.reader(), calib[0].path).size() == 1);
  for (const char* path : {"no such", "CALIB/no such", "../etc"})
    CHECK(support::code_of([&] { (void)list_files(volume.reader(), path); }) == ErrorCode::words);
  CHECK(support::code_of([&] { (void)list_files(volume.reader(), calib[0].path + "/x"); }) ==
        ErrorCode::words);
  CHECK(support::code_of([&] { OpenedVolume none(disk, 99, utc()); }) == ErrorCode::words);
  CHECK(support::code_of([&] { OpenedVolume none(disk, 0, utc()); }) == ErrorCode::words);
  // A folder by its name; a file that isn't as recorded is kept, and named.
  const support::Folder folder;
  Manifest m = take_manifest(disk, utc(), quiet);
  ManifestVolume& v = m.volumes[0];
  v.digests[v.tree.find(calib[0].path)].bytes[0] ^= 1;
  FetchOptions options;
  options.recorded = &v;
  const FetchResult result =
      fetch_files(volume.reader(), {"calib"}, folder / "out", options, quiet);
  CHECK(fs::is_directory((folder / "out") / "CALIB"));
  CHECK(result.files == calib.size());
  CHECK(result.checked == calib.size() - 1);
  REQUIRE(result.problems.size() == 1);
  CHECK(result.problems[0].path == calib[0].path);
  CHECK(result.problems[0].text.find("not as recorded") != std::string::npos);
}

TEST_CASE("files: names as long as a folder here takes them, and what it doesn't take is named") {
  const auto disk = support::disk(90000);
  FatFormat format;
  format.cluster_sectors = 1;
  FatWriter writer(*disk, format);
  const std::string longest(255, 'n');
  writer.add_file(longest, volumes::noise(700, 1));
  // A path of more than 4096 bytes, in the end.
  std::string deep;
  for (int i = 0; i < 17; ++i) {
    deep += (deep.empty() ? "" : "/") + std::string(240, static_cast<char>('a' + i));
    writer.add_directory(deep);
  }
  writer.add_file(deep + "/" + std::string(100, 'x'), volumes::noise(10, 2));
  writer.add_file("after.bin", volumes::noise(20, 3));
  // 90 characters of three bytes each.
  std::string wide;
  for (int i = 0; i < 90; ++i) wide += "\xE6\xBD\xAE";
  writer.add_file(wide, volumes::noise(30, 4));
  writer.finish();
  const support::Folder folder;
  QuietProgress quiet;
  OpenedVolume volume(*disk, 0, utc());
  const FetchResult result = fetch_files(volume.reader(), {"/"}, folder / "out", {}, quiet);
  CHECK(result.files == 2);
  CHECK(fs::file_size(folder / "out" / longest) == 700);
  CHECK(fs::file_size(folder / "out" / "after.bin") == 20);
  REQUIRE(result.problems.size() == 2);
  for (const FetchProblem& p : result.problems) {
    CAPTURE(p.text);
    CHECK((p.path == wide || p.path.starts_with("aaa")));
  }
}

TEST_CASE("files: what can't be read is named, the rest copied; an image is never written over") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  scenarios::make_image(image, scenarios::all()[0]);
  QuietProgress quiet;
  const auto device = open_device(image);
  OpenedVolume sound(*device, 1, utc());
  const FileTree& tree = sound.reader().tree();
  (void)fetch_files(sound.reader(), {""}, folder / "whole", {}, quiet);
  std::size_t partial = 0, none = 0;
  for (FileTree::Id id = 1; id < tree.size() && partial + none < 12; ++id) {
    if (tree.extents(id).empty() || tree.bytes(id) == 0) continue;
    const std::string path = tree.path(id);
    CAPTURE(path);
    const std::string name = path.substr(path.rfind('/') + 1);
    const std::uint64_t sectors = div_up<std::uint64_t>(tree.bytes(id), 512);
    // Its last sector; of a short file that is all of it.
    const SectorRange first = tree.extents(id)[0];
    if (first.count < sectors) continue;
    FaultPlan plan;
    plan.bad_reads.add({sound.start() + first.first + sectors - 1, 1});
    FaultDevice bad(*device, plan);
    OpenedVolume volume(bad, 1, utc());
    const auto out = folder / ("out" + std::to_string(id));
    const FetchResult result = fetch_files(volume.reader(), {path}, out, {}, quiet);
    REQUIRE(result.problems.size() == 1);
    CHECK(result.problems[0].path == path);
    CHECK(result.files == 0);
    if (sectors == 1) {
      ++none;
      CHECK(result.partial == 0);
      CHECK(fs::is_empty(out));
      continue;
    }
    ++partial;
    CHECK(result.partial == 1);
    CHECK(result.bytes == tree.bytes(id));
    std::string wanted = text_of(folder / "whole" / path);
    std::fill(wanted.begin() + static_cast<std::ptrdiff_t>((sectors - 1) * 512), wanted.end(),
              '\0');
    CHECK(text_of(out / name) == wanted);
    CHECK(result.problems[0].text.starts_with(
        fmt::format("{} from {} on can't be read",
                    plural(tree.bytes(id) - (sectors - 1) * 512, "byte", "bytes"),
                    format_count((sectors - 1) * 512))));
    // What a better try has copied stays.
    const auto good = folder / ("good" + std::to_string(id));
    (void)fetch_files(sound.reader(), {path}, good, {}, quiet);
    FetchOptions over;
    over.overwrite = true;
    const FetchResult again = fetch_files(volume.reader(), {path}, good, over, quiet);
    CHECK(again.partial == 0);
    REQUIRE(again.problems.size() == 1);
    CHECK(again.problems[0].text.find("left") != std::string::npos);
    CHECK(text_of(good / name) == text_of(folder / "whole" / path));
  }
  CHECK(partial > 0);
  CHECK(none > 0);
  for (const auto& entry : fs::recursive_directory_iterator(folder.path()))
    CHECK(entry.path().extension() != ".part");
  // A file of the disk's own name, where the image is.
  const std::string before = support::fingerprint(image);
  const std::string path = list_files(sound.reader(), "CALIB").back().path;
  const fs::path there = (folder / "over") / path;
  fs::create_directories(there.parent_path());
  fs::create_hard_link(image, there);
  FetchOptions over;
  over.overwrite = true;
  const FetchResult refused = fetch_files(sound.reader(), {"CALIB"}, folder / "over", over, quiet);
  REQUIRE(refused.problems.size() == 1);
  CHECK(refused.problems[0].path == path);
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE("files: of a chain that ends early what is there is copied, and never called whole") {
  const support::Folder folder;
  MemoryDevice disk(40000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 4;
  FatWriter writer(disk, format);
  const Bytes content = support::noise(5000, 7);  // three clusters
  writer.add_file("GAUGE.CSV", content);
  writer.finish();
  QuietProgress quiet;
  OpenedVolume sound(disk, 0, utc());
  ManifestVolume recorded = record_volume(sound.reader(), 0, quiet);
  // The second cluster of the chain becomes its last.
  const Bytes boot = disk.read(0);
  const auto reserved = support::little(boot, 14, 2);
  const auto cluster = recorded.tree.extents(1)[0].first;
  const auto data = reserved + support::little(boot, 16, 1) * support::little(boot, 22, 2) +
                    support::little(boot, 17, 2) / 16;
  const std::uint64_t entry = 2 * ((cluster - data) / 4 + 2 + 1);
  Bytes fat = disk.read(reserved + entry / 512);
  support::put(fat, entry % 512, 0xFFFF, 2);
  disk.write(reserved + entry / 512, fat);
  FetchOptions options;
  options.recorded = &recorded;
  OpenedVolume by_the_other(disk, 0, utc());  // its second FAT
  const FetchResult whole =
      fetch_files(by_the_other.reader(), {""}, folder / "whole", options, quiet);
  CHECK(whole.checked == 1);
  CHECK(fetch_text(by_the_other, whole, "whole", true, {}).find("the second one") !=
        std::string::npos);
  disk.write(reserved + support::little(boot, 22, 2) + entry / 512, fat);
  OpenedVolume volume(disk, 0, utc());
  const FetchResult result = fetch_files(volume.reader(), {""}, folder / "out", options, quiet);
  CHECK(result.files == 0);
  CHECK(result.partial == 1);
  CHECK(result.checked == 0);
  REQUIRE(result.problems.size() == 1);
  CHECK(result.problems[0].text ==
        "904 bytes from 4,096 on can't be read: it has fewer sectors than its size says; the copy "
        "ends early");
  CHECK(text_of(folder / "out" / "GAUGE.CSV") ==
        std::string(content.begin(), content.begin() + 4096));
  const std::string text = fetch_text(volume, result, "out", true, {});
  CHECK(text.find("copied 0 files, 1 in part") != std::string::npos);
  CHECK(text.find("each as recorded") == std::string::npos);
}

TEST_CASE("files: the tool lists, copies, rehearses and takes several disks") {
  const support::Folder folder;
  const auto image = (folder / "disk.img").string();
  const auto other = (folder / "other.img").string();
  scenarios::make_image(image, scenarios::all()[0]);
  scenarios::make_image(other, of_ntfs());
  const std::string before = support::fingerprint(image);
  const auto root = support::tool(fmt::format("files {} p1", image));
  CHECK(root.status == 0);
  CHECK(root.out.find("CALIB/") != std::string::npos);
  const auto out = (folder / "out").string();
  const auto fetched = support::tool(fmt::format("fetch {} p1 calib -o {}", image, out));
  CHECK(fetched.status == 0);
  CHECK(fetched.out.find("copied ") != std::string::npos);
  const auto once_more = support::tool(fmt::format("fetch {} p1 calib -o {}", image, out));
  CHECK(once_more.status == 1);
  CHECK(once_more.out.find("copied 0 files (0 bytes) to") != std::string::npos);
  CHECK(once_more.out.find(" files are there already, and stay: ") != std::string::npos);
  CHECK(once_more.out.find("--overwrite") != std::string::npos);
  // A partition alone is all that is in it.
  CHECK(support::tool(fmt::format("fetch {} p1 -o {}-all", image, out)).status == 0);
  CHECK(fs::exists(out + "-all/CALIB"));
  CHECK(support::tool(fmt::format("fetch {} p9 -o {}-none", image, out)).status == 2);
  CHECK(support::tool(fmt::format("fetch {} -o {}-none", image, out)).status == 2);
  CHECK(!fs::exists(out + "-none"));
  CHECK(support::tool(fmt::format("files {} p1 nothing", image)).status == 2);

  const auto both =
      support::tool(fmt::format("check {} {} {}/none.img", image, other, folder.path().string()));
  CHECK(both.status == 2);
  CHECK(both.out.find("In all\n" + image + ": no finding, but not all") != std::string::npos);
  CHECK(both.out.find("none.img: the disk can't be opened") != std::string::npos);
  CHECK(support::tool(fmt::format("survey {} {}", image, other)).status == 0);
  CHECK(support::tool(fmt::format("check {} {} p1", image, other)).status == 2);

  const auto machine = support::tool("survey --json");
  CHECK(machine.status == 0);
  CHECK(machine.out.find("nuvrat.machine/1") != std::string::npos);

  const auto folder_of_case = (folder / "case").string();
  const std::string job =
      fmt::format("rewrite {} table=gpt --case-in-memory --case {}", image, folder_of_case);
  const auto rehearsed = support::tool(job + " --rehearse");
  CHECK(rehearsed.status == 0);
  CHECK(rehearsed.out.find("every file would be there") != std::string::npos);
  CHECK(support::fingerprint(image) == before);
  const CaseRecord record = read_record(folder_of_case);
  CHECK(record.outcome == Outcome::rehearsed);
  CHECK(report_html(record).find("nothing was done yet") != std::string::npos);
  // The next one may use its folder; another job's not.
  const std::string tag = [&] {
    const auto device = open_device(image);
    return disk_tag(*device, read_table(*device));
  }();
  CHECK(support::tool(job + " --confirm " + tag).status == 0);
  CHECK(support::tool(job + " --rehearse").status == 3);
  CHECK(read_record(folder_of_case).outcome == Outcome::done);

  // Words that were meant otherwise.
  for (const auto& [words, meant] :
       {std::pair<std::string, std::string>{"serve x", "did you mean survey?"},
        {"check x --repear", "did you mean --repair?"},
        {"check x --unowned free", "--unowned requires --repair"},
        {"rewrite x --jsn table=gpt", "did you mean --json?"}}) {
    const auto ran = support::tool(words);
    CHECK(ran.status == 2);
    CHECK_MESSAGE(ran.errors.find(meant) != std::string::npos, ran.errors);
  }
  const auto json = support::tool("rewrite --json");
  CHECK(json.status == 2);
  CHECK(json.out.find("nuvrat.error/1") != std::string::npos);
  const auto plain = support::tool("");
  CHECK(plain.status == 0);
  CHECK(plain.out.find("rewrite") != std::string::npos);
}

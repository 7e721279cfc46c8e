// No output says more than was seen.

#include <algorithm>
#include <filesystem>
#include <fstream>

#include <fmt/core.h>

#include "ntfs_bytes.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::code_of;
using support::utc;

namespace {

std::string tag_text(const std::filesystem::path& image) {
  const auto device = open_device(image);
  return disk_tag(*device, read_table(*device));
}

std::string whole_text(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

}  // namespace

TEST_CASE("true words: what was not looked at is said, and isn't sound") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  const auto write = [&image](std::uint64_t at, const std::string& text) {
    create_image(image, 4096, 512, true);
    Bytes sector(512);
    std::copy(text.begin(), text.end(), sector.begin());
    open_device(image, {true, 512})->write(at, sector);
  };
  for (const std::string& contents : {std::string(), std::string("SIMPLE  = an archive"),
                                      std::string("\x7F"
                                                  "ELF a program")}) {
    CAPTURE(contents);
    write(0, contents);
    const auto check = support::tool("check " + image.string());
    CHECK(check.status == 1);
    CHECK(check.out.find("not looked at: the whole disk") != std::string::npos);
    CHECK(check.out.find("sound") == std::string::npos);
    CHECK(support::tool("survey " + image.string()).out.find("sound") == std::string::npos);
  }
  for (const char* container : {"conectix", "vhdxfile", "QFI\xFB", "KDMV"}) {
    CAPTURE(std::string(container));
    create_image(image, 4096, 512, true);
    std::fstream(image, std::ios::in | std::ios::out | std::ios::binary) << container;
    const auto refused = support::tool("survey " + image.string());
    CHECK(refused.status == 2);
    CHECK(refused.errors.find("container") != std::string::npos);
  }
}

TEST_CASE("true words: no verdict is without its disk, where there is no goal either") {
  const support::Folder folder;
  const auto image = folder / "other.img";
  create_image(image, 2048, 512, true);
  Bytes boot(512);
  constexpr std::string_view mark = "EXFAT   ";
  std::copy(mark.begin(), mark.end(), boot.begin() + 3);
  open_device(image, {true, 512, 0})->write(0, boot);
  const auto ran = support::run(fmt::format("{} assess {}", NUVRAT_TOOL, image.string()));
  CHECK(ran.status == 0);
  CHECK(ran.out.starts_with(image.string() + ": there is no goal"));
}

TEST_CASE("true words: a fixed VHD is the disk without its footer, which stays as it is") {
  const support::Folder folder;
  const auto image = folder / "disk.vhd";
  scenarios::make_image(image, scenarios::all()[0]);
  const std::uint64_t bytes = std::filesystem::file_size(image);
  std::string foot(512, '\0');
  const auto put = [&foot](std::size_t at, std::uint64_t value, std::size_t width) {
    for (std::size_t i = 0; i < width; ++i)
      foot[at + width - 1 - i] = static_cast<char>(value >> 8 * i);
  };
  foot.replace(0, 8, "conectix");
  put(8, 2, 4);
  put(12, 0x00010000, 4);
  put(16, ~std::uint64_t{0}, 8);
  put(40, bytes, 8);
  put(48, bytes, 8);
  put(60, 2, 4);
  std::uint32_t sum = 0;
  for (const char c : foot) sum += static_cast<std::uint8_t>(c);
  put(64, ~sum, 4);
  std::ofstream(image, std::ios::binary | std::ios::app) << foot;
  CHECK(open_device(image)->sectors() == bytes / 512);
  const auto ran =
      support::tool(fmt::format("rewrite --confirm {} --case {} {} table=gpt", tag_text(image),
                                (folder / "case").string(), image.string()));
  CHECK(ran.status == 0);
  const std::string after = whole_text(image);
  CHECK(after.size() == bytes + 512);
  CHECK(after.substr(bytes) == foot);
  CHECK(read_table(*open_device(image)).findings.empty());
  // One that grows, or whose numbers don't agree, is refused.
  put(60, 3, 4);
  std::fstream file(image, std::ios::in | std::ios::out | std::ios::binary);
  file.seekp(static_cast<std::streamoff>(bytes));
  file << foot;
  file.close();
  CHECK(code_of([&] { (void)open_device(image); }) == ErrorCode::words);
}

TEST_CASE("true words: a partition's name fits, to the last character, or is refused") {
  CHECK(parse_goal("p1.name=").state().empty());
  CHECK(parse_goal("p1.name=" + std::string(36, 'x')).state().size() == 36);
  for (const std::string& name : {std::string(37, 'x'), std::string("a\tb"), std::string("\xC3("),
                                  std::string("\xED\xA0\x80")}) {
    CAPTURE(name);
    CHECK(code_of([&] { (void)parse_goal("p1.name=" + name); }) == ErrorCode::words);
  }
  CHECK(code_of([] { (void)parse_goal("table="); }) == ErrorCode::words);
  const auto zone = [](const char* tz) {
    return support::run(fmt::format("TZ={} {} assess /nowhere.img table=gpt", tz, NUVRAT_TOOL))
        .status;
  };
  CHECK(zone("Nowhere/Atall") == 2);
}

TEST_CASE("true words: a file with a hole longer than its volume is legal, however long") {
  for (const std::uint64_t hole : {std::uint64_t{200000}, std::uint64_t{1} << 34,
                                   (std::uint64_t{1} << 53) - 16}) {  // on a volume of 120,000
    CAPTURE(hole);
    support::NtfsBytes v;
    const std::uint64_t n = v.record_of(u"A.BIN");
    const std::uint64_t lcn = v.sector_of(n, 0x80) / v.spc;
    Bytes pairs = {0x31, 5};
    for (unsigned i = 0; i < 3; ++i) pairs.push_back(static_cast<std::uint8_t>(lcn >> 8 * i));
    unsigned width = 1;
    while (hole >> (8 * width - 1) != 0) ++width;
    pairs.push_back(static_cast<std::uint8_t>(width));
    for (unsigned i = 0; i < width; ++i) pairs.push_back(static_cast<std::uint8_t>(hole >> 8 * i));
    pairs.push_back(0);
    const std::uint64_t clusters = hole + 5;
    v.replace(n, v.attribute(n, 0x80), 72,
              support::data_in_units(0x8000, 0, clusters, clusters * 512, 5, pairs));
    support::put_next_id(v, n);
    const Findings findings = check_volume(*v.disk, utc());
    for (const Finding& f : findings) {
      CHECK(f.code != Rule::ntfs_runlist);
      CHECK(f.code != Rule::ntfs_bitmap_lost);
      CHECK(f.code != Rule::ntfs_name_unknown);
    }
    QuietProgress quiet;
    const Manifest m = take_manifest(*v.disk, utc(), quiet);
    CHECK(m.bytes() > clusters * 512);
    CHECK(m.unreadable_files() == 0);
    // A list of plain sums holds no hash that is another's.
    const support::Folder folder;
    const auto left_out = save_sha256sum(m, folder / "sums", false);
    CHECK(left_out == (hole * 512 < std::uint64_t{1} << 32 ? std::vector<std::string>{}
                                                           : std::vector<std::string>{"A.BIN"}));
    CHECK(support::run("grep -c 'A.BIN' " + (folder / "sums").string()).out ==
          (left_out.empty() ? "1\n" : "0\n"));
    // What is stored is compared: another byte behind the hole's beginning is another hash.
    Bytes sector = v.disk->read(lcn * v.spc, 1);
    sector[7] ^= 1;
    v.disk->write(lcn * v.spc, sector);
    CHECK(take_manifest(*v.disk, utc(), quiet).seal() != m.seal());
  }
}

TEST_CASE("true words: what a system may leave in a record is no finding") {
  support::NtfsBytes v;
  REQUIRE(check_volume(*v.disk, utc()).empty());
  const std::uint64_t n = v.record_of(u"A.BIN");
  const std::size_t data_bytes = support::little(v.record(n), v.attribute(n, 0x80) + 4, 4);
  const std::size_t behind_data = v.attribute(n, 0x80) + data_bytes;
  SUBCASE("an object id, extended attributes, a stream of the system's own") {
    Bytes tail;
    Bytes entry(24);  // one extended attribute: its length, the name TIDE, the value 7
    support::put(entry, 0, 24, 4);
    support::put(entry, 5, 4, 1);
    support::put(entry, 6, 1, 2);
    for (unsigned i = 0; i < 4; ++i)
      support::put(entry, 8 + i, static_cast<unsigned>("TIDE"[i]), 1);
    support::put(entry, 13, 7, 1);
    Bytes info(8);
    support::put(info, 0, 24, 2);
    support::put(info, 4, 24, 4);
    for (const Bytes& a :
         {support::resident(0xD0, 22, "", info), support::resident(0xE0, 23, "", entry),
          support::resident(0x100, 24, "$TXF_DATA", Bytes(56))})
      tail.insert(tail.end(), a.begin(), a.end());
    v.replace(n, behind_data, 0, tail);
    v.replace(n, v.attribute(n, 0x80), 0, support::resident(0x40, 25, "", volumes::noise(16, 4)));
    support::put_next_id(v, n);
  }
  SUBCASE("only a stream with a name, as a journal of changes has") {
    v.replace(n, behind_data, 0, support::resident(0x80, 22, "$J", volumes::noise(20, 4)));
    // The unnamed one goes, and its clusters with it: an empty file's takes its place.
    const std::uint64_t other = v.record_of(u"tide number 5.csv");
    const std::size_t at = v.attribute(other, 0x80);
    v.replace(other, at, support::little(v.record(other), at + 4, 4),
              support::resident(0x80, 22, "$J", volumes::noise(20, 4)));
    support::put_next_id(v, other);
    support::put_next_id(v, n);
  }
  SUBCASE("a record of the older form, its update sequence where others have their number") {
    Bytes bytes = v.record(n);
    support::put(bytes, 4, 0x2A, 2);
    for (std::size_t i = 0; i < 6; ++i) bytes[0x2A + i] = bytes[0x30 + i];
    support::NtfsBytes::protect(bytes, 0x2A);
    v.disk->write(v.mft + n * 2, bytes);
  }
  const Findings findings = check_volume(*v.disk, utc());
  for (const Finding& f : findings) {
    if (f.severity != Severity::note) FAIL_CHECK(name_of(f.code) << ": " << f.text);
  }
  CHECK(take_manifest(*v.disk, utc(), *std::make_unique<QuietProgress>()).whole());
}

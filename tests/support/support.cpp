#include "support.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <sstream>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/vfs.h>
#include <sys/wait.h>
#include <unistd.h>

namespace support {

using namespace nuvrat;

namespace {

std::string slurp(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

}  // namespace

Folder::Folder(Where where) {
  if (where == Where::memory) {
    std::string name = "/dev/shm/nuvrat-test-XXXXXX";
    if (::mkdtemp(name.data()) != nullptr) {
      path_ = name;
      return;
    }
  }
  // A case in memory is refused: where the usual folder lies there, the working one is taken.
  const std::filesystem::path usual = std::filesystem::temp_directory_path();
  struct statfs info {};
  constexpr long tmpfs = 0x01021994;
  const bool memory = ::statfs(usual.c_str(), &info) == 0 && info.f_type == tmpfs;
  std::string name =
      ((memory ? std::filesystem::current_path() : usual) / "nuvrat-test-XXXXXX").string();
  path_ = ::mkdtemp(name.data());
}

Folder::~Folder() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}

Ran run(const std::string& command) {
  const Folder folder;
  const std::string whole = fmt::format("( {} ) </dev/null >{} 2>{}", command,
                                        (folder / "out").string(), (folder / "err").string());
  const int status = std::system(whole.c_str());
  return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, slurp(folder / "out"),
          slurp(folder / "err")};
}

nuvrat::JobOptions case_in_memory(const std::filesystem::path& folder) {
  nuvrat::JobOptions out;
  out.read = utc();
  out.case_folder = folder;
  out.case_in_memory = true;
  return out;
}

nuvrat::Manifest manifest_of(const nuvrat::Device& disk) {
  nuvrat::QuietProgress quiet;
  return take_manifest(disk, utc(), quiet);
}

nuvrat::Bytes contents_of(nuvrat::VolumeReader& reader, const std::string& path) {
  nuvrat::Bytes out;
  read_file(reader, path,
            [&out](nuvrat::ByteView piece) { out.insert(out.end(), piece.begin(), piece.end()); });
  return out;
}

std::uint64_t seed(std::uint64_t usual) {
  const char* const day = std::getenv("NUVRAT_SEED");
  constexpr std::uint64_t apart = 1'000'003;
  return usual + (day == nullptr ? 0 : std::strtoull(day, nullptr, 10) * apart);
}

bool is_long() {
  return std::getenv("NUVRAT_LONG") != nullptr;
}

void unpack_image(const std::string& name, const std::filesystem::path& image) {
  const Ran ran =
      run(fmt::format("xz -dc {}/data/{}.img.xz > {}", NUVRAT_TESTS_FOLDER, name, image.string()));
  REQUIRE_MESSAGE(ran.status == 0, ran.errors);
}

Ran tool(const std::string& arguments) {
  return run(std::string(NUVRAT_TOOL) + " " + arguments);
}

std::string fingerprint(const std::filesystem::path& file) {
  const int fd = ::open(file.c_str(), O_RDONLY);
  REQUIRE(fd >= 0);
  Sha256 sha;
  sha.add(std::to_string(std::filesystem::file_size(file)));
  Bytes piece(64 * 1024);
  for (off_t at = 0; (at = ::lseek(fd, at, SEEK_DATA)) >= 0;) {
    at -= at % static_cast<off_t>(piece.size());
    const ssize_t n = ::pread(fd, piece.data(), piece.size(), at);
    if (n <= 0) break;
    const ByteView data(piece.data(), static_cast<std::size_t>(n));
    if (!all_zero(data)) {
      sha.add(fmt::format("@{}", at));
      sha.add(data);
    }
    at += n;
  }
  ::close(fd);
  return sha.finish().hex();
}

std::string on_one_line(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c != '\n' && c != ' ')
      out += c;
    else if (!out.empty() && out.back() != ' ')
      out += ' ';
  }
  return out;
}

ErrorCode code_of(const std::function<void()>& call) {
  try {
    call();
  } catch (const Error& e) {
    return e.code();
  }
  FAIL("no error was thrown");
  return ErrorCode::words;
}

void ReadNotes::do_read(std::uint64_t lba, nuvrat::ByteSpan out) const {
  for (std::uint64_t i = 0; i < out.size() / sector_size(); ++i) ++reads[lba + i];
  below_.read(lba, out);
}

std::unique_ptr<MemoryDevice> disk(std::uint64_t sectors, std::uint32_t sector_size) {
  return std::make_unique<MemoryDevice>(sectors, sector_size);
}

void make_small_disk(const std::filesystem::path& file, std::uint64_t disk_sectors,
                     std::uint64_t start, std::uint64_t sectors, std::uint8_t type,
                     std::uint32_t sector_size) {
  create_image(file, disk_sectors, sector_size, true);
  const auto device = open_device(file, {true, sector_size});
  Bytes mbr(sector_size);
  put_entry(mbr, 0, type, static_cast<std::uint32_t>(start), static_cast<std::uint32_t>(sectors));
  mbr[440] = 0x5A;
  device->write(0, mbr);
  WritableWindow window(*device, {start, sectors});
  FatFormat format;
  format.kind = sectors < 4085 ? VolumeKind::fat12 : VolumeKind::fat16;
  format.cluster_sectors = 1;
  format.label = "BUOY";
  format.hidden_sectors = start;
  FatWriter writer(window, format);
  const std::string text = "the tide is out";
  writer.add_file("tide.txt", {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
  writer.finish();
}

std::uint32_t slow_crc32(ByteView bytes) {
  std::uint32_t crc = 0xFFFFFFFF;
  for (const std::uint8_t b : bytes) {
    crc ^= b;
    for (int bit = 0; bit < 8; ++bit) crc = (crc & 1) != 0 ? (crc >> 1) ^ 0xEDB88320 : crc >> 1;
  }
  return ~crc;
}

namespace {

// UEFI specification 2.10, section 5.3.2, table 5-5: offset and width of each field.
void judge_header(const Device& device, std::uint64_t lba, std::uint64_t other, Bytes& entries,
                  std::vector<std::string>& wrong) {
  const auto must = [&](bool fine, const std::string& what) {
    if (!fine) wrong.push_back(fmt::format("header at {}: {}", lba, what));
  };
  const Bytes h = device.read(lba);
  must(std::string(h.begin(), h.begin() + 8) == "EFI PART", "signature");
  must(little(h, 8, 4) == 0x00010000, "revision");
  must(little(h, 12, 4) == 92, "header size");
  Bytes copy(h.begin(), h.begin() + 92);
  std::fill(copy.begin() + 16, copy.begin() + 20, std::uint8_t{0});
  must(little(h, 16, 4) == slow_crc32(copy), "header checksum");
  must(little(h, 20, 4) == 0, "reserved field");
  must(little(h, 24, 8) == lba, "MyLBA");
  must(little(h, 32, 8) == other, "AlternateLBA");
  const std::uint64_t array_sectors = 16384 / device.sector_size();
  must(little(h, 40, 8) >= 2 + array_sectors, "FirstUsableLBA");
  must(little(h, 48, 8) <= device.sectors() - 2 - array_sectors, "LastUsableLBA");
  must(little(h, 80, 4) == 128 && little(h, 84, 4) == 128, "number and size of entries");
  const std::uint64_t array = little(h, 72, 8);
  must(lba == 1 ? array == 2 : array == lba - array_sectors, "place of the entries");
  entries = device.read(array, array_sectors);
  must(little(h, 88, 4) == slow_crc32(entries), "checksum of the entries");
  must(all_zero(ByteView(h).subspan(92)), "rest of the sector is zero");
}

}  // namespace

std::vector<std::string> judge_gpt(const Device& device) {
  std::vector<std::string> wrong;
  Bytes first;
  Bytes second;
  judge_header(device, 1, device.sectors() - 1, first, wrong);
  judge_header(device, device.sectors() - 1, 1, second, wrong);
  if (first != second) wrong.push_back("the copies differ");
  const Bytes mbr = device.read(0);
  const std::uint64_t size = std::min<std::uint64_t>(device.sectors() - 1, 0xFFFFFFFF);
  const Bytes entry(mbr.begin() + 446, mbr.begin() + 462);
  const Bytes wanted_chs = {0x00, 0x00, 0x02, 0x00, 0xEE, 0xFF, 0xFF, 0xFF};
  if (!std::equal(wanted_chs.begin(), wanted_chs.end(), entry.begin()))
    wrong.push_back("protective entry");
  if (little(entry, 8, 4) != 1 || little(entry, 12, 4) != size) wrong.push_back("protective range");
  if (!all_zero(ByteView(mbr).subspan(462, 48))) wrong.push_back("other MBR entries are not zero");
  if (little(mbr, 444, 2) != 0) wrong.push_back("the settle mark is still there");
  if (mbr[510] != 0x55 || mbr[511] != 0xAA) wrong.push_back("MBR signature");
  std::vector<Bytes> ids;
  for (std::size_t at = 0; at < first.size(); at += 128) {
    if (all_zero(ByteView(first).subspan(at, 16))) continue;
    Bytes id(first.begin() + static_cast<std::ptrdiff_t>(at) + 16,
             first.begin() + static_cast<std::ptrdiff_t>(at) + 32);
    if (std::find(ids.begin(), ids.end(), id) != ids.end()) wrong.push_back("an id is repeated");
    ids.push_back(id);
  }
  return wrong;
}

WayBack use_what_was_given_up(const Device& original, const MemoryDevice& after,
                              const CaseFile& job, Random& random) {
  SectorSet given_up = owned_sectors(original);
  given_up.remove(owned_sectors(after));
  for (const WrittenRange& w :
       Journal::open(std::filesystem::path(job.folder) / "undo.journal").writes())
    given_up.remove(SectorSet{w.range});
  if (given_up.empty()) return WayBack::nothing_given_up;
  const auto& ranges = given_up.ranges();
  const SectorRange& range = ranges[random.below(ranges.size())];
  const auto used = after.clone();
  Bytes noise(after.sector_size());
  random.fill(noise);
  used->write(range.first + random.below(range.count), noise);
  const auto was = used->clone();
  QuietProgress quiet;
  try {
    const RevertResult result = revert_case(*used, job, {}, quiet);
    REQUIRE(result.compared.has_value());
    const Comparison c =
        compare(take_manifest(original, utc(), quiet), take_manifest(*used, utc(), quiet));
    // By places it isn't known what the files of a partition held that is gone; that is said.
    const bool unread =
        result.compared->by_place > 0 &&
        std::all_of(c.by_kind.begin(), c.by_kind.end(), [](const auto& kind) {
          return kind.first == DifferenceKind::content || kind.first == DifferenceKind::range;
        });
    CHECK((c.equal() || unread));
    CHECK(c.recorded == result.compared->recorded);
    const Findings before = survey_disk(original, utc(), true).all_findings();
    for (const SurveyedPartition& s : survey_disk(*used, utc(), true).partitions) {
      for (const Finding& f : s.findings)
        CHECK_MESSAGE((f.severity != Severity::error || find_code(before, f.code) != nullptr),
                      f.text);
    }
    return WayBack::whole;
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::refused);
    CHECK(used->same_as(*was));
    return WayBack::refused;
  }
}

}  // namespace support

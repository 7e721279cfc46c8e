// Eighty commands as people type them, and the answers: a mistake is told with the command that was
// meant.

#include <fstream>
#include <string>
#include <string_view>
#include <utility>

#include <fmt/core.h>
#include <nlohmann/json.hpp>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using support::tool;

namespace {

struct Typed {
  const char* words;  // %L: a disk with an MBR
  int status;
  const char* answer;  // in what is said; %L as above
};

constexpr Typed all_typed[] = {
    {"convert %L table=gpt", 2, "nuvrat rewrite"},
    {"info %L", 2, "nuvrat survey"},
    {"list", 2, "nuvrat survey"},
    {"show %L", 2, "nuvrat survey"},
    {"scan %L", 2, "nuvrat survey"},
    {"undo CASE", 2, "nuvrat revert CASE"},
    {"restore CASE", 2, "nuvrat revert CASE"},
    {"continue CASE", 2, "nuvrat resume CASE"},
    {"plan %L table=gpt", 2, "nuvrat assess"},
    {"repair %L", 2, "nuvrat check --repair"},
    {"fix %L", 2, "nuvrat check --repair"},
    {"ls %L p1", 2, "nuvrat files"},
    {"extract %L p1 /", 2, "nuvrat fetch"},
    {"hash %L", 2, "nuvrat manifest"},
    {"compare %L", 2, "nuvrat verify"},
    {"html CASE", 2, "nuvrat report CASE"},
    {"resize %L p1.size=-10MiB", 2, "nuvrat rewrite"},
    {"delete %L p1=gone", 2, "nuvrat rewrite"},
    {"surve %L", 2, "nuvrat survey %L"},
    {"revrt CASE", 2, "nuvrat revert CASE"},
    {"asess %L", 2, "did you mean assess?"},
    {"chek %L", 2, "did you mean check?"},
    {"rewrit %L table=gpt", 2, "did you mean rewrite?"},
    {"frobnicate", 2, "lists the verbs"},
    {"help", 0, "Usage"},
    {"help rewrite", 0, "GOAL"},
    {"help nothing", 0, "Usage"},
    {"%L", 2, "nuvrat survey %L"},
    {"%L table=gpt", 2, "nuvrat rewrite %L table=gpt"},
    {"table=gpt %L", 2, "nuvrat rewrite %L table=gpt"},
    {"table=gpt", 2, "nuvrat rewrite DISK table=gpt"},
    {"rewrite table=gpt %L", 2, "nuvrat rewrite %L table=gpt"},
    {"assess table=gpt %L", 2, "nuvrat assess %L table=gpt"},
    {"assess p1=ntfs", 2, "nuvrat assess DISK p1=ntfs"},
    {"rewrite %L", 2, "nuvrat assess %L"},
    {"rewrite", 2, "needs a"},
    {"assess", 2, "needs a disk"},
    {"resume", 2, "needs a case"},
    {"revert", 2, "needs a case"},
    {"check", 2, "needs a disk"},
    {"rewrite %L --dry-run table=gpt", 2, "--rehearse"},
    {"rewrite %L table=gpt --yes", 2, "--confirm TAG"},
    {"rewrite %L table=gpt -y", 2, "--confirm TAG"},
    {"rewrite %L table=gpt --force", 2, "--confirm TAG"},
    {"rewrite %L table=gpt --verbose", 2, "--details"},
    {"rewrite %L table=gpt --rehears", 2, "did you mean --rehearse?"},
    {"survey %L --jsn", 2, "did you mean --json?"},
    {"check %L --fix", 2, "--repair"},
    {"rewrite %L table=gpt --simulate", 2, "--rehearse"},
    {"assess %L -v", 2, "--details"},
    {"assess %L ntfs", 2, "p1=ntfs"},
    {"assess %L NTFS", 2, "p1=ntfs"},
    {"assess %L gpt", 2, "table=gpt"},
    {"assess %L uefi", 2, "boot=uefi"},
    {"assess %L logical", 2, "p1=logical"},
    {"assess %L gone", 2, "p1=gone"},
    {"assess %L banana", 2, "the state that is wanted"},
    {"assess %L table=GPT", 0, "in reach: GPT"},
    {"assess %L Table=gpt", 0, "in reach: GPT"},
    {"assess %L P1=NTFS", 0, "p1 NTFS"},
    {"assess %L p2.SIZE=min", 0, "in reach: p2"},
    {"assess %L p1.size=-10mib", 0, "p1 10.0 MiB shorter"},
    {"assess %L p1.size=-10M", 0, "p1 10.0 MiB shorter"},
    {"assess %L p1.size=-10MB", 0, "shorter"},
    {"assess %L p2.size=+5", 2, "Say p2.size=+5GiB"},
    {"assess %L p2.size=5", 2, "Say p2.size=5GiB"},
    {"assess %L p2.size=20%", 2, "140 MiB"},
    {"assess %L p2.size=-20%", 2, "p2.size=-140MiB"},
    {"assess %L p2.szie=+5GiB", 2, "did you mean p2.size?"},
    {"assess %L tabel=gpt", 2, "did you mean table?"},
    {"assess %L p9=ntfs", 2, "p1, p2, p5, p6 and p7"},
    {"assess %L p3=ntfs", 2, "p5, p6 and p7"},
    {"files %L p9", 2, "p1, p2, p5, p6 and p7"},
    {"manifest %L p4 -o x", 2, "p1, p2, p5, p6 and p7"},
    {"files %L p1/", 0, "Archive/"},
    {"files %L P1 /", 0, "Archive/"},
    {"files %L p1//Archive", 0, "p1/Archive"},
    {"assess %L p2.label=tides", 0, "p2 label 'TIDES'"},
    {"assess %L p1.letter=R:", 3, "p1.letter=R is out of reach"},
    {"assess %L p1.cluster=8k", 0, "clusters of 8.0 KiB"},
    {"rewrite %L table=gpt --confirm QQQQ", 3, "not QQQQ"},
    {"rewrite %L table=gpt --confirm QQQQ --case nowhere/case", 3, "not QQQQ"},
};

std::string with(std::string text, const std::string& disk) {
  for (std::size_t at = text.find("%L"); at != text.npos; at = text.find("%L"))
    text.replace(at, 2, disk);
  return text;
}

}  // namespace

TEST_CASE("tool: what people type is understood, or answered with the command that they meant") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  for (const Typed& typed : all_typed) {
    CAPTURE(typed.words);
    const auto ran = tool(with(typed.words, disk));
    CHECK(ran.status == typed.status);
    const std::string said = support::on_one_line(ran.out + ran.errors);
    CAPTURE(said);
    CHECK(said.find(with(typed.answer, disk)) != said.npos);
  }
}

TEST_CASE("tool: a tag is taken in small letters and with blanks around it") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  std::string tag = nlohmann::json::parse(tool("survey --json " + disk).out).at("tag");
  for (char& c : tag) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
  const auto nowhere = tool(fmt::format("rewrite {} table=gpt --confirm {} --case {}", disk, tag,
                                        (folder / "no" / "case").string()));
  CHECK(nowhere.status == 2);
  CHECK(nowhere.errors.find("isn't there") != std::string::npos);
  const std::string job = (folder / "case").string();
  CHECK(
      tool(fmt::format("rewrite {} table=gpt --confirm ' {} ' --case {}", disk, tag, job)).status ==
      0);
  CHECK(tool("resume " + job).status == 0);  // done already: nothing is asked
}

TEST_CASE("tool: a packed image is recognised, and what it is said") {
  const support::Folder folder;
  const std::pair<std::string_view, const char*> packed[] = {{"\x1F\x8B\x08", "gzip"},
                                                             {"\xFD"
                                                              "7zXZ",
                                                              "xz"},
                                                             {"\x28\xB5\x2F\xFD", "zstd"},
                                                             {"BZh9", "bzip2"},
                                                             {"PK\x03\x04", "ZIP"},
                                                             {"7z\xBC\xAF\x27\x1C", "7z"}};
  const std::string path = (folder / "disk.img").string();
  for (const auto& [bytes, name] : packed) {
    CAPTURE(name);
    std::ofstream(path, std::ios::binary) << bytes << "and what follows";
    const auto ran = tool("survey " + path);
    CHECK(ran.status == 2);
    CHECK(ran.errors.find(name) != std::string::npos);
  }
}

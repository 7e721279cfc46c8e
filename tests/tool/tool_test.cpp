// The command line as a process: words, statuses, JSON.

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/core.h>
#include <nlohmann/json.hpp>

#include <nuvrat/columns.h>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using Json = nlohmann::json;
using support::tool;

namespace {

std::string tag_of(const std::string& disk) {
  return Json::parse(tool("survey --json " + disk).out).at("tag");
}

}  // namespace

TEST_CASE("tool: survey shows the disk, as text and as JSON") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  const auto ran = tool("survey --json " + disk);
  CHECK(ran.status == 0);
  const Json s = Json::parse(ran.out);
  CHECK(s.at("schema") == "nuvrat.survey/1");
  CHECK(s.at("device").at("bytes") == 4ull << 30);
  CHECK(s.at("device").at("sector_size") == 512);
  CHECK(s.at("device").at("path") == disk);
  CHECK(s.at("table").at("kind") == "mbr");
  REQUIRE(s.at("partitions").size() == 6);
  const Json& extended = s.at("partitions")[2];
  CHECK(extended.at("role") == "extended");
  CHECK(extended.at("number") == 3);
  const Json& first = s.at("partitions")[0];
  CHECK(first.at("number") == 1);
  CHECK(first.at("start") == 2048);
  CHECK(first.at("sectors") == 1228800);
  CHECK(first.at("active") == true);
  CHECK(first.at("type") == "0C");
  CHECK(first.at("volume").at("kind") == "fat32");
  CHECK(first.at("volume").at("label") == "GAUGES");
  CHECK(first.at("volume").at("free_bytes") < first.at("volume").at("bytes"));
  for (const char* columns : {"80", "120"}) {
    const auto text =
        support::run(fmt::format("COLUMNS={} {} survey {}", columns, NUVRAT_TOOL, disk));
    CHECK(text.status == 0);
    CHECK(text.out.find("\x1b") == std::string::npos);  // no colour in a pipe
    std::istringstream lines(text.out);
    for (std::string line; std::getline(lines, line);) {
      CHECK(display_width(line) <= static_cast<std::size_t>(std::stoi(columns)));
    }
    for (const char* word : {"p1", "p7", "extended", "HYDROPHONE", "free"}) {
      CHECK(text.out.find(word) != std::string::npos);
    }
  }
}

TEST_CASE("tool: manifest, rewrite, verify from end to end") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  const std::string manifest = (folder / "m").string();
  REQUIRE(tool("manifest --timezone UTC -o " + manifest + " " + disk).status == 0);
  const std::string before = support::fingerprint(disk);
  const std::string rewrite =
      "rewrite --json --case " + (folder / "case").string() + " " + disk + " table=gpt";

  CHECK(tool(rewrite).status == 3);  // nobody to ask, no --confirm
  CHECK(tool(rewrite + " --confirm XXXX").status == 3);
  CHECK(support::fingerprint(disk) == before);
  const auto done = tool(rewrite + " --timezone UTC --confirm " + tag_of(disk));
  REQUIRE(done.status == 0);
  const Json r = Json::parse(done.out);
  CHECK(r.at("verdict") == "done");
  CHECK(r.at("seal_before") == r.at("seal_after"));
  CHECK(r.at("files").get<int>() > 500);
  CHECK(r.at("differences").empty());

  const auto same = tool("verify --json --against " + manifest + " " + disk);
  CHECK(same.status == 0);
  const Json v = Json::parse(same.out);
  CHECK(v.at("verdict") == "equal");
  CHECK(v.at("seal_after") == r.at("seal_after"));
  {
    const auto device = open_device(disk, {true, 512});
    const Window window(*device, {2048, 1228800});
    const auto reader = open_volume(window, {});
    const FileTree& tree = reader->tree();
    for (FileTree::Id id = 1; id < tree.size(); ++id) {
      if (tree.path(id) != "CALIB/NOTE03.TXT") continue;
      device->write(2048 + tree.extents(id)[0].first, Bytes(512, 'x'));
    }
  }
  const auto changed = tool("verify --against " + manifest + " " + disk);
  CHECK(changed.status == 1);
  CHECK(changed.out.find("content: p1/CALIB/NOTE03.TXT") != std::string::npos);
  CHECK(support::on_one_line(changed.out)
            .find("1 difference from what was recorded: 1 in content ") != std::string::npos);
  // Another disk altogether: asked, and counted.
  const std::string stick = (folder / "stick.img").string();
  {
    create_image(stick, orrelune::stick_sectors(512), 512, true);
    orrelune::make_stick(*open_device(stick, {true, 512}));
  }
  const auto other = tool("verify --against " + manifest + " " + stick);
  CHECK(other.status == 1);
  CHECK(support::on_one_line(other.out).find("none of 588 files") != std::string::npos);
  CHECK(support::on_one_line(other.out).find("is this another disk?") != std::string::npos);
  const auto counted =
      nlohmann::json::parse(tool("verify --json --against " + manifest + " " + stick).out);
  CHECK(counted.at("same_files") == 0);
  CHECK(counted.at("recorded_files") == 588);
  CHECK(counted.at("differences_by_kind").at("volume") == counted.at("difference_count"));
}

TEST_CASE("tool: what would refuse the job in the end refuses it before the volumes are read") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  const std::string before = support::fingerprint(disk);
  std::filesystem::create_directory(folder / "full");
  std::ofstream(folder / "full" / "note") << "kept\n";
  std::ofstream(folder / "file") << "kept\n";
  struct Early {
    std::string words, says;
    int status;
  };
  const std::string confirm = " --confirm " + tag_of(disk);
  for (const Early& e :
       {Early{"--confirm XXXX", "tag is not XXXX", 3},
        Early{"--case " + (folder / "full").string() + confirm, "not empty", 3},
        Early{"--case " + (folder / "file").string() + confirm, "can't be made", 4},
        Early{"--case " + (folder / "file" / "deeper").string() + confirm, "can't be made", 4},
        Early{"--case /dev/shm/nuvrat/new" + confirm, "in memory", 3},
        Early{"--rehearse --case " + (folder / "full").string(), "not empty", 3},
        Early{"--events /nowhere/events" + confirm, "can't be written", 2}}) {
    CAPTURE(e.words);
    for (const char* verb : {"rewrite", "check --repair"}) {
      if (verb[0] == 'c' && e.words.starts_with("--rehearse")) continue;
      const bool rewrite = verb[0] == 'r';
      const auto ran =
          tool(fmt::format("{} {} {} {}", verb, disk, rewrite ? "table=gpt" : "", e.words));
      CHECK_MESSAGE(ran.status == e.status, ran.errors);
      CHECK(ran.out.empty());  // no assessment was made
      CHECK_MESSAGE(ran.errors.find(e.says) != std::string::npos, ran.errors);
    }
  }
  CHECK(support::fingerprint(disk) == before);
  CHECK_FALSE(std::filesystem::exists("/dev/shm/nuvrat"));
  // Where no job comes of it, nobody asks for a place.
  const auto sound =
      support::run(fmt::format("cd /dev/shm && {} check --repair {}", NUVRAT_TOOL, disk));
  CHECK_MESSAGE(sound.status == 0, sound.errors);
  // A folder that a job may have isn't made by asking.
  const auto device = open_device(disk);
  check_case_folder(folder / "new", *device, false);
  CHECK_FALSE(std::filesystem::exists(folder / "new"));
}

TEST_CASE("tool: words that make no sense are status 2 and say what would") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  const std::vector<std::string> wrong = {
      "dance " + disk,
      "check",
      "survey /nowhere/at/all.img",
      "survey --sector-size 700 " + disk,
      "survey --timezone Nowhere/Atall " + disk,
      "survey --codepage 4242 " + disk,
      "assess " + disk + " table=xyz",
      "assess " + disk + " nonsense",
      "manifest " + disk,
      "manifest -o /nowhere/m " + disk,
      "manifest -o " + (folder / "m").string() + " " + disk + " p99",
      "verify " + disk + " --against /nowhere/m"};
  for (const std::string& words : wrong) {
    CAPTURE(words);
    const auto ran = tool(words);
    CHECK(ran.status == 2);
    CHECK(!ran.errors.empty());
  }
  const auto as_json = tool("survey --json /nowhere/at/all.img");
  CHECK(as_json.status == 2);
  CHECK(Json::parse(as_json.out).at("verdict") == "error");
}

TEST_CASE("tool: a manifest of one partition has paths that begin at its root") {
  const support::Folder folder;
  const std::string disk = orrelune::logger_image(folder / "logger.img");
  const std::string sums = (folder / "sums").string();
  REQUIRE(tool("manifest --format sha256sum -o " + sums + " " + disk + " p5").status == 0);
  const auto lines = support::run("grep -c '  Readings/' " + sums + "; grep -c '  p5/' " + sums);
  CHECK(lines.out == "40\n0\n");
  CHECK(tool("manifest --format sha256sum -o " + sums + " " + disk).status == 3);
  REQUIRE(tool("manifest --overwrite --format sha256sum -o " + sums + " " + disk).status == 0);
  CHECK(support::run("grep -c '  p5/Readings/' " + sums).out == "40\n");
}

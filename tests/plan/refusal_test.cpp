// For each obstacle of table=gpt a disk that has it: exit status 3, the image unchanged to the
// byte.

#include <filesystem>
#include <functional>

#include <nlohmann/json.hpp>

#include "support.h"

using namespace nuvrat;
using Json = nlohmann::json;

namespace {

void must_refuse(const support::Folder& folder, const std::string& code,
                 const std::string& more = "") {
  CAPTURE(code);
  const auto file = folder / "disk.img";
  const std::string before = support::fingerprint(file);
  const auto looked = support::tool("survey --json " + more + file.string());
  const std::string tag = Json::parse(looked.out).at("tag");
  const auto ran =
      support::tool("rewrite --json --confirm " + tag + " --case " + (folder / "case").string() +
                    " " + more + file.string() + " table=gpt");
  CHECK(ran.status == 3);
  CHECK(support::fingerprint(file) == before);
  const Json result = Json::parse(ran.out);
  CHECK(result.at("verdict") == "refused");
  bool found = false;
  for (const Json& o : result.at("assessment").at("obstacles")) {
    CHECK(!o.at("text").get<std::string>().empty());
    CHECK(!o.at("remedy").get<std::string>().empty());
    found |= o.at("code") == code;
  }
  CHECK_MESSAGE(found, ran.out);
  // The case holds why not and nothing else; there is nothing to resume, and a next try may have
  // it.
  CHECK_FALSE(std::filesystem::exists(folder / "case" / "undo.journal"));
  const CaseRecord record = read_record(folder / "case");
  CHECK(record.outcome == Outcome::out_of_reach);
  CHECK(report_html(record).find("data-obstacle=\"" + code) != std::string::npos);
  CHECK(support::tool("resume --confirm " + tag + " " + (folder / "case").string()).status == 3);
  CHECK(support::fingerprint(file) == before);
  const auto text = support::tool("assess " + more + file.string() + " table=gpt");
  CHECK(text.status == 3);
  CHECK(text.out.find("what would remove it") != std::string::npos);
}

void edit(const std::filesystem::path& file, const std::function<void(Device&)>& change) {
  const auto device = open_device(file, {true, 512});
  change(*device);
}

}  // namespace

TEST_CASE("refusal: no room at the front, to the sector") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 33, 20000);
  must_refuse(folder, "front-room");
  support::make_small_disk(folder / "disk.img", 40000, 34, 20000);
  CHECK(support::tool("assess " + (folder / "disk.img").string() + " table=gpt").status == 0);
  support::make_small_disk(folder / "disk.img", 40000, 5, 8000, 0x0E, 4096);
  must_refuse(folder, "front-room", "--sector-size 4096 ");
  support::make_small_disk(folder / "disk.img", 40000, 6, 8000, 0x0E, 4096);
  CHECK(support::tool("assess --sector-size 4096 " + (folder / "disk.img").string() + " table=gpt")
            .status == 0);
}

TEST_CASE("refusal: no room at the back, to the sector") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 2048, 40000 - 2048 - 32);
  must_refuse(folder, "back-room");
  support::make_small_disk(folder / "disk.img", 40000, 2048, 40000 - 2048 - 33);
  CHECK(support::tool("assess " + (folder / "disk.img").string() + " table=gpt").status == 0);
}

TEST_CASE("refusal: partitions that overlap or leave the disk") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 2048, 20000);
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr = d.read(0);
    support::put_entry(mbr, 1, 0x83, 20000, 5000);
    d.write(0, mbr);
  });
  must_refuse(folder, name_of(Rule::mbr_overlap));
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr = d.read(0);
    support::put_entry(mbr, 1, 0x83, 30000, 50000);
    d.write(0, mbr);
  });
  must_refuse(folder, name_of(Rule::mbr_outside));
}

TEST_CASE("refusal: chains that can't be trusted") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 60000, 2048, 20000);
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr = d.read(0);
    support::put_entry(mbr, 1, 0x05, 30000, 10000);
    d.write(0, mbr);
    Bytes ebr(512);
    support::put_entry(ebr, 0, 0x83, 63, 100);
    support::put_entry(ebr, 1, 0x05, 0, 100);  // leads to itself
    d.write(30000, ebr);
  });
  must_refuse(folder, name_of(Rule::ebr_loop));
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr = d.read(0);
    support::put_entry(mbr, 2, 0x0F, 45000, 1000);
    d.write(0, mbr);
    Bytes ebr(512);
    support::put_entry(ebr, 0, 0x83, 63, 100);
    d.write(30000, ebr);
    d.write(45000, ebr);
  });
  must_refuse(folder, name_of(Rule::mbr_two_extended));
}

TEST_CASE("refusal: an EBR where the GPT must go") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 60000, 30000, 20000);
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr = d.read(0);
    support::put_entry(mbr, 1, 0x05, 10, 10000);
    d.write(0, mbr);
    Bytes ebr(512);
    support::put_entry(ebr, 0, 0x83, 500, 100);
    d.write(10, ebr);
  });
  must_refuse(folder, "ebr-in-the-way");
}

TEST_CASE("refusal: a volume that isn't clean, a damaged one, a dynamic disk") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 2048, 20000);
  edit(folder / "disk.img", [](Device& d) {
    Bytes boot = d.read(2048);
    boot[37] |= 1;
    d.write(2048, boot);
  });
  must_refuse(folder, name_of(Rule::fat_not_clean));
  support::make_small_disk(folder / "disk.img", 40000, 2048, 20000);
  edit(folder / "disk.img", [](Device& d) {
    Bytes boot = d.read(2048);
    boot[19] = 0x84;  // 20,100 sectors in a place of 20,000
    boot[20] = 0x4E;
    d.write(2048, boot);
  });
  must_refuse(folder, name_of(Rule::volume_damaged));
  support::make_small_disk(folder / "disk.img", 40000, 2048, 20000, 0x42);
  must_refuse(folder, "managed");
}

TEST_CASE("refusal: a GPT already there, in force or left behind; no table; a disk too small") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 2048, 20000);
  const std::string tag =
      Json::parse(support::tool("survey --json " + (folder / "disk.img").string()).out).at("tag");
  REQUIRE(support::tool("rewrite --confirm " + tag + " --case " + (folder / "first").string() +
                        " " + (folder / "disk.img").string() + " table=gpt")
              .status == 0);
  must_refuse(folder, "gpt-already");
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr(512);
    support::put_entry(mbr, 0, 0x0E, 2048, 20000);
    d.write(0, mbr);
  });
  must_refuse(folder, name_of(Rule::mbr_gpt_remains));
  create_image(folder / "disk.img", 40000, 512, true);
  must_refuse(folder, "no-table");
  create_image(folder / "disk.img", 60, 512, true);
  edit(folder / "disk.img", [](Device& d) {
    Bytes mbr(512);
    support::put_entry(mbr, 0, 0x83, 10, 20);
    d.write(0, mbr);
  });
  must_refuse(folder, "disk-too-small");
}

TEST_CASE("refusal: an image of 4096-byte sectors opened with 512") {
  const support::Folder folder;
  support::make_small_disk(folder / "disk.img", 40000, 256, 20000, 0x0E, 4096);
  must_refuse(folder, name_of(Rule::disk_sector_size));
}

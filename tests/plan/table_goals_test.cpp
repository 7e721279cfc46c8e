// table=mbr, roles, small goals, mending: refusals with their numbers, contradictions, large disks.

#include "table_goals.h"

#include <algorithm>

#include <fmt/core.h>
#include <nlohmann/json.hpp>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;
using direction::assessed;
using direction::gpt;
using direction::run_in;
using Json = nlohmann::json;
using support::code_of;
using support::utc;

namespace {

std::string first_obstacle(Device& device, const std::vector<std::string>& words) {
  const Assessment a = assessed(device, words);
  return a.in_reach() ? "in reach" : name_of(a.obstacles[0]);
}

}  // namespace

TEST_CASE(
    "direction: what an MBR can't hold is refused with its number, on the tool's command line "
    "too") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  const std::uint64_t big = (6ull << 40) / 512;  // 6 TiB, sparse
  create_image(image, big, 512, true);
  {
    const auto device = open_device(image, {true, 512});
    write_new_table(*device,
                    gpt(big, {{2048, 4096}, {0x100000000, 4096}, {0x100002000, 0x100000005}}));
  }
  const std::string before = support::fingerprint(image);
  const auto ran = support::tool("assess --json " + image.string() + " table=mbr");
  CHECK(ran.status == 3);
  const Json obstacles = Json::parse(ran.out).at("obstacles");
  REQUIRE(obstacles.size() == 2);
  CHECK(obstacles[0].at("code") == "past-32-bits");
  CHECK(obstacles[0].at("partition") == 2);
  CHECK(obstacles[0].at("missing_sectors") == 1);
  CHECK(obstacles[1].at("partition") == 3);
  CHECK(obstacles[1].at("missing_sectors") == 0x2001);
  const std::string tag =
      Json::parse(support::tool("survey --json " + image.string()).out).at("tag");
  CHECK(support::tool("rewrite --confirm " + tag + " " + image.string() + " table=mbr").status ==
        3);
  CHECK(support::fingerprint(image) == before);
}

TEST_CASE(
    "direction: large disks near and past 2 TiB, both sector sizes, cost what small ones cost") {
  for (const std::uint32_t size : {512u, 4096u}) {
    std::vector<std::uint64_t> counts;
    for (const std::uint64_t bytes : {64ull << 20, (2ull << 40) - (1u << 20), 3ull << 40}) {
      const support::Folder folder;
      MemoryDevice device(bytes / size, size);
      const std::uint64_t unit = 4096 / size;
      const std::uint64_t last =
          std::min<std::uint64_t>(device.sectors() - 3000 * unit, 0xFFFFF000);
      write_new_table(device,
                      gpt(device.sectors(),
                          {{64, 100}, {1000, 100}, {2000, 100}, {3000, 100}, {last, 100}}, size));
      const Assessment a = assessed(device, {"table=mbr"});
      counts.push_back(a.sectors_to_write);
      run_in(device, a, folder / "case");
      const Layout now = read_table(device).layout;
      CHECK(now.partitions.back().start == last);
      const Partition& end = now.partitions.back();
      REQUIRE(end.role == Role::logical);
      run_in(device, assessed(device, {"p3=logical"}), folder / "role");
      CHECK(read_table(device).layout.find(7)->start == last);
      const Assessment back = assessed(device, {"table=gpt"});
      run_in(device, back, folder / "back");
      CHECK(support::judge_gpt(device).empty());
      run_in(device, assessed(device, {"p1.name=Boje"}), folder / "name");
      CHECK(support::judge_gpt(device).empty());
      CHECK(read_table(device).layout.find(1)->name == "Boje");
    }
    CHECK(counts[0] == counts[1]);
    CHECK(counts[1] == counts[2]);
  }
}

TEST_CASE(
    "direction: goals that contradict each other or mean nothing here are words, not refusals") {
  MemoryDevice device(orrelune::logger_sectors(512), 512);
  orrelune::make_logger_disk(device);
  const std::vector<std::vector<std::string>> wrong = {{"table=gpt", "table=mbr"},
                                                       {"p1=logical", "p1=primary"},
                                                       {"p1.active=yes", "p2.active=yes"},
                                                       {"table=gpt", "p5=primary"},
                                                       {"p9=logical"},
                                                       {"p3=logical"},  // the extended one
                                                       {"p1.name=Boje"},
                                                       {"table=mbr", "p1.name=x"},
                                                       {"p1.active=yes", "p1.active=no"}};
  for (const auto& words : wrong) {
    CAPTURE(words[0]);
    CHECK(code_of([&] { (void)assessed(device, words); }) == ErrorCode::words);
  }
  for (const char* word : {"p1", "p1=", "=x", "p0=logical", "p1=big", "p1.active=maybe",
                           "table=none", "p1.type=07", "disk=new"}) {
    CHECK(code_of([word] { (void)parse_goal(word); }) == ErrorCode::words);
  }
  CHECK(first_obstacle(device, {"table=mbr"}) == "already");
  CHECK(first_obstacle(device, {"p1.active=yes"}) == "already");
  CHECK(first_obstacle(device, {"p5.active=yes"}) == "active-logical");
  CHECK(first_obstacle(device, {"p1=logical"}) == "no-arrangement");
  CHECK(first_obstacle(device, {"p6=primary"}) ==
        "no-arrangement");  // would cut the container in two
  CHECK(assess_all(device, utc(), *std::make_unique<Random>(1)).size() == 12);
}

TEST_CASE("direction: several goals at once, planned together") {
  const support::Folder folder;
  MemoryDevice device(orrelune::archive_sectors(512), 512);
  orrelune::make_archive_disk(device);
  run_in(device,
         assessed(device, {"table=mbr", "p2=logical", "p3=logical", "p4=logical", "p5=logical",
                           "p6.active=yes"}),
         folder / "a");
  const Layout now = read_table(device).layout;
  CHECK(now.data_partitions().size() == 6);
  CHECK(now.find(1)->role == Role::primary);
  CHECK(now.find(5)->start == 402 * 2048);
  const auto active = std::find_if(now.partitions.begin(), now.partitions.end(),
                                   [](const Partition& p) { return p.active; });
  REQUIRE(active != now.partitions.end());
  CHECK(active->start == 1726 * 2048);
  CHECK(active->role == Role::primary);
  run_in(device, assessed(device, {"table=gpt", "p1.name=Tides of the year"}), folder / "b");
  CHECK(read_table(device).layout.find(1)->name == "Tides of the year");
}

TEST_CASE("direction: partitions of the GPT world that hold no files are dropped when agreed to") {
  const support::Folder folder;
  MemoryDevice device(40000, 512);
  Layout layout = gpt(40000, {{64, 100}, {1000, 100}, {2000, 100}});
  layout.partitions[0].type = Guid("E3C9E316-0B5C-4DB8-817D-F92DF00215AE");
  layout.partitions[1].type = Guid("21686148-6449-6E6F-744E-656564454649");
  layout.partitions[2].type = Guid("11111111-2222-3333-4444-555555555555");
  write_new_table(device, layout);
  const Assessment a = assessed(device, {"table=mbr"});
  std::string consents;
  for (const Consent& c : a.consents) consents += std::string(name_of(c.code)) + " ";
  CHECK(consents == "dropped dropped gpt-only firmware type start-code ");
  REQUIRE(a.after.partitions.size() == 1);
  CHECK(std::get<std::uint8_t>(a.after.partitions[0].type) == 0xDA);
  std::string fates;
  for (const Contents& c : a.contents) fates += std::string(name_of(c.fate)) + " ";
  CHECK(fates == "gone gone stays ");
}

TEST_CASE("direction: a type that doesn't match is noted, and matched when asked") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  support::make_small_disk(image, 40000, 2048, 20000, 0x07);
  const auto device = open_device(image, {true, 512});
  const Survey survey = survey_disk(*device, utc());
  CHECK(find_code(survey.all_findings(), Rule::table_type_mismatch) != nullptr);
  run_in(*device, assessed(*device, {"p1.type=match"}), folder / "case");
  CHECK(std::get<std::uint8_t>(read_table(*device).layout.find(1)->type) == 0x0E);
  CHECK(survey_disk(*device, utc()).all_findings().empty());
}

TEST_CASE(
    "mend: every kind of GPT damage that can be mended, and what can't is left with the choices") {
  const support::Folder folder;
  const Layout layout = gpt(40000, {{64, 100}, {1000, 100}});
  MemoryDevice good(40000, 512);
  write_new_table(good, layout);
  const auto mend = [&](MemoryDevice& device, const char* name) {
    CAPTURE(name);
    const auto before = device.clone();
    run_in(device, assess_repair(device, utc()), folder / name);
    CHECK(read_table(device).findings.empty());
    CHECK(support::judge_gpt(device).empty());
    QuietProgress quiet;
    (void)revert_case(device, load_case(folder / name), {}, quiet);
    CHECK(device.same_as(*before));
  };
  auto device = good.clone();
  device->write(1, Bytes(512));
  mend(*device, "primary");
  device = good.clone();
  device->write(3, Bytes(512, 1));
  mend(*device, "entries");
  device = good.clone();
  device->write(39999, Bytes(512));
  mend(*device, "backup");
  device = good.clone();
  device->write(0, Bytes(512));
  mend(*device, "protective");
  auto grown = support::disk(50000);
  grown->write(0, good.read(0, 40000));
  mend(*grown, "grown");

  device = good.clone();
  Layout other = layout;
  other.partitions[0].sectors = 50;
  const GptBytes bytes = build_gpt(other);
  device->write(bytes.backup_array.lba, bytes.backup_array.data);
  Bytes array = bytes.backup_array.data;
  device->write(bytes.backup_header.lba, bytes.backup_header.data);
  const Assessment differ = assess_repair(*device, utc());
  REQUIRE_FALSE(differ.in_reach());
  CHECK(differ.obstacles[0].finding == Rule::gpt_copies_differ);
  CHECK(assess_repair(good, utc()).steps.empty());
}

TEST_CASE("mend: a chain that leads outside its container gets a container that holds it") {
  const support::Folder folder;
  MemoryDevice device(40000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x83, 100, 400);
  support::put_entry(mbr, 1, 0x05, 1000, 5000);
  device.write(0, mbr);
  Bytes first(512);
  support::put_entry(first, 0, 0x83, 63, 1000);
  support::put_entry(first, 1, 0x05, 7000, 2000);  // sector 8000, behind the container's end
  device.write(1000, first);
  Bytes second(512);
  support::put_entry(second, 0, 0x83, 63, 1500);
  device.write(8000, second);
  // A chain that can't be followed to its end isn't mended: its last partitions would go with it.
  FaultPlan plan;
  plan.bad_reads.add({8000, 1});
  const FaultDevice worn(device, plan);
  const Assessment refused = assess_repair(worn, utc());
  REQUIRE_FALSE(refused.in_reach());
  CHECK(refused.obstacles[0].finding == Rule::ebr_link_outside);
  CHECK(refused.obstacles[0].text.find("isn't known") != std::string::npos);
  CHECK(find_code(read_table(device).findings, Rule::ebr_link_outside) != nullptr);
  CHECK(first_obstacle(device, {"table=gpt"}) == name_of(Rule::ebr_link_outside));
  run_in(device, assess_repair(device, utc()), folder / "case");
  const TableReading now = read_table(device);
  CHECK(now.findings.empty());
  CHECK(now.layout.find(5)->start == 1063);
  CHECK(now.layout.find(6)->start == 8063);
  CHECK(now.layout.find(6)->sectors == 1500);
}

TEST_CASE("lost case: GPT to MBR and changes inside a GPT can be finished from the disk alone") {
  QuietProgress quiet;
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"table=mbr"}, {"p1.name=Boje"}}) {
    MemoryDevice original(40000, 512);
    write_new_table(original,
                    gpt(40000, {{128, 100}, {1000, 100}, {2000, 100}, {3000, 100}, {4000, 100}}));
    const Assessment a = assessed(original, words);
    const support::Folder folder;
    const auto whole = original.clone();
    run_in(*whole, a, folder / "whole");
    unsigned finished = 0;
    for (std::uint64_t cut = 1; cut < 140; ++cut) {
      const auto disk = original.clone();
      FaultPlan plan;
      plan.cut_before = cut;
      plan.keep = FaultPlan::Keep::all;
      FaultDevice device(*disk, plan);
      JobOptions options;
      options.read = utc();
      options.case_folder = folder / std::to_string(cut);
      try {
        (void)run_job(device, a, options, quiet);
        break;
      } catch (const Error&) {
      }
      const auto step = find_unfinished(*disk);
      if (!step) continue;  // before the first switch, or at the very end of a chain
      finish_unfinished(*disk, *step, quiet);
      CHECK(read_table(*disk).layout == a.after);
      CHECK(read_table(*disk).findings.empty());
      CHECK(disk->same_as(*whole));
      ++finished;
    }
    CHECK(finished > 30);
  }
}

TEST_CASE("direction: where a volume believes to begin is put right in both boot sectors") {
  const support::Folder folder;
  MemoryDevice device(400000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x0F, 1000, 399000);
  device.write(0, mbr);
  Bytes first(512);
  support::put_entry(first, 0, 0x0C, 63, 300000);
  support::put_entry(first, 1, 0x05, 301000, 9000);
  device.write(1000, first);
  Bytes second(512);
  support::put_entry(second, 0, 0x07, 63, 8000);
  device.write(302000, second);
  WritableWindow window(device, {1063, 300000});
  FatFormat format;
  format.cluster_sectors = 2;
  format.hidden_sectors = 63;  // as systems of old count: from the EBR
  FatWriter(window, format).finish();
  WritableWindow small(device, {302063, 8000});
  format.kind = VolumeKind::fat12;
  format.cluster_sectors = 4;
  FatWriter(small, format).finish();
  run_in(device, assessed(device, {"p6=ntfs"}), folder / "ntfs");
  Bytes ntfs = device.read(302063);
  ntfs[28] = 63;
  ntfs[29] = ntfs[30] = ntfs[31] = 0;
  device.write(302063, ntfs);
  device.write(302063 + 7999, ntfs);
  const auto original = device.clone();
  const auto hidden = [&device](std::uint64_t lba) {
    return support::little(device.read(lba), 28, 4);
  };
  const Assessment a = assessed(device, {"p5=primary", "p6=primary"});
  CHECK(a.steps.size() == 3);
  run_in(device, a, folder / "case");
  CHECK(hidden(1063) == 1063);
  CHECK(hidden(1063 + 6) == 1063);
  CHECK(hidden(302063) == 302063);
  CHECK(hidden(302063 + 7999) == 302063);
  QuietProgress quiet;
  (void)revert_case(device, load_case(folder / "case"), {}, quiet);
  CHECK(device.same_as(*original));
}

TEST_CASE("refusal: a member of a RAID made of whole disks") {
  MemoryDevice device(40000, 512);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0x83, 2048, 3000);
  device.write(0, mbr);
  Bytes anchor(512);
  anchor[0] = anchor[2] = 0xDE;
  anchor[1] = anchor[3] = 0x11;
  device.write(39999, anchor);
  CHECK(first_obstacle(device, {"table=gpt"}) == "raid-member");
}

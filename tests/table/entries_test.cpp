// Types, fields of entries and EBRs, hidden sectors: what a change of a table touches, and what it
// must leave alone.

#include <algorithm>

#include <fmt/core.h>

#include "support.h"
#include "table_goals.h"
#include "volumes.h"

using namespace nuvrat;
using direction::assessed;
using direction::gpt;
using direction::run_in;
using support::utc;

TEST_CASE("direction: an encrypted volume's type is right as it is, and comes back as it was") {
  const support::Folder folder;
  MemoryDevice device(200000, 512);
  write_new_table(device, gpt(200000, {{2048, 50000}, {60000, 50000}}));
  for (const std::uint64_t start : {2048u, 60000u}) {
    Bytes boot = volumes::noise(512, start);
    const char mark[] = "-FVE-FS-";
    std::copy_n(mark, 8, boot.begin() + 3);
    if (start == 60000) {  // a file system of Linux in a partition of basic data
      Bytes super(512);
      super[56] = 0x53;
      super[57] = 0xEF;
      device.write(start + 2, super);
      boot = Bytes(512);
    }
    device.write(start, boot);
  }
  const Survey survey = survey_disk(device, utc(), true);
  CHECK(find_code(survey.find(1)->findings, Rule::table_type_mismatch) == nullptr);
  CHECK(find_code(survey.find(2)->findings, Rule::table_type_mismatch) != nullptr);
  const Assessment a = assessed(device, {"table=mbr"});
  run_in(device, a, folder / "there");
  const Layout mbr = read_table(device).layout;
  CHECK(std::get<std::uint8_t>(mbr.find(1)->type) == 0x07);
  CHECK(std::get<std::uint8_t>(mbr.find(2)->type) == 0x83);
  std::string agreed;
  for (const Consent& c : a.consents)
    agreed += c.code == ConsentCode::type ? a.text_of(c) + " " : "";
  CHECK(agreed.find("p2: ") != agreed.npos);
  CHECK(agreed.find("partition 1") == agreed.npos);
  CHECK(find_code(survey_disk(device, utc(), true).find(1)->findings, Rule::table_type_mismatch) ==
        nullptr);
  run_in(device, assessed(device, {"table=gpt"}), folder / "back");
  CHECK(std::get<Guid>(read_table(device).layout.find(1)->type) == basic_data_guid());
}

TEST_CASE("direction: a chain goes behind its neighbours, into what a dropped partition leaves") {
  const support::Folder folder;
  MemoryDevice device(300000, 512);
  Layout before = gpt(300000, {{2048, 20000},
                               {30000, 20000},
                               {60000, 20000},
                               {80000, 2000},
                               {82000, 20000},
                               {110000, 20000}});
  before.partitions[3].type = Guid("E3C9E316-0B5C-4DB8-817D-F92DF00215AE");
  write_new_table(device, before);
  const auto original = device.clone();
  run_in(device, assessed(device, {"table=mbr"}), folder / "case");
  const Layout after = read_table(device).layout;
  const Partition* previous = nullptr;
  std::size_t logicals = 0;
  for (const Partition& p : after.partitions) {
    if (p.role != Role::logical) continue;
    ++logicals;
    CHECK(*p.table_sector < p.start);
    if (previous != nullptr) CHECK(*p.table_sector >= previous->range().end());
    previous = &p;
  }
  CHECK(logicals >= 2);
  QuietProgress quiet;
  (void)revert_case(device, load_case(folder / "case"), {}, quiet);
  CHECK(device.same_as(*original));
}

namespace {

// Two primaries and a logical FAT volume, with fields that are nobody's custom.
std::unique_ptr<MemoryDevice> odd_fields() {
  auto device = support::disk(200000, 512);
  using disk_bytes::add;
  Layout layout = disk_bytes::mbr(200000, 512, 0x0DDF1E1D);
  add(layout, Role::primary, {2048, 30000}, 0x0E);
  add(layout, Role::primary, {40000, 20000}, 0xDA);
  add(layout, Role::extended, {70000, 100000}, 0x0F);
  add(layout, Role::logical, {72048, 40000}, 0x06).table_sector = 70000;
  layout.sort();
  write_new_table(*device, layout);
  for (const std::uint64_t start : {2048u, 72048u}) {
    WritableWindow window(*device, {start, start == 2048 ? 30000u : 40000u});
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 2;
    format.hidden_sectors = 2048;  // of the logical: from its EBR
    FatWriter writer(window, format);
    writer.add_file("A.BIN", volumes::noise(5000, start));
    writer.finish();
  }
  Bytes mbr = device->read(0);
  mbr[444] = mbr[445] = 0x5A;
  for (std::size_t i = 0; i < 3; ++i) {
    for (const std::size_t at : {1u, 2u, 3u, 5u, 6u, 7u})
      mbr[446 + 16 * i + at] = static_cast<std::uint8_t>(0x10 * at + i);
  }
  device->write(0, mbr);
  Bytes ebr = device->read(70000);
  for (const std::size_t at : {1u, 2u, 3u, 5u, 6u, 7u}) ebr[446 + at] = 0x77;
  ebr[10] = 0xE9;
  device->write(70000, ebr);
  return device;
}

// Offsets where two sectors differ.
std::vector<std::size_t> differing(const Bytes& a, const Bytes& b) {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < a.size(); ++i) {
    if (a[i] != b[i]) out.push_back(i);
  }
  return out;
}

}  // namespace

TEST_CASE("direction: no change touches fields of entries that it isn't about") {
  const support::Folder folder;
  const auto device = odd_fields();
  const Bytes mbr = device->read(0);
  const Bytes ebr = device->read(70000);
  const Assessment a = assessed(*device, {"p5=ntfs"});
  run_in(*device, a, folder / "ntfs");
  CHECK(std::any_of(a.consents.begin(), a.consents.end(),
                    [](const Consent& c) { return c.code == ConsentCode::type; }));
  CHECK(device->read(0) == mbr);
  CHECK(differing(device->read(70000), ebr) == std::vector<std::size_t>{450});
  CHECK(device->read(70000)[450] == 0x07);

  run_in(*device, assessed(*device, {"p1.active=yes"}), folder / "active");
  CHECK(differing(device->read(0), mbr) == std::vector<std::size_t>{446});

  // Roles change: the entries of the others keep theirs.
  run_in(*device, assessed(*device, {"p2=logical"}), folder / "role");
  const Bytes now = device->read(0);
  CHECK(std::equal(now.begin() + 447, now.begin() + 462, mbr.begin() + 447));
  CHECK(now[444] == 0x5A);
}

TEST_CASE("direction: hidden sectors follow in every rewrite that makes them wrong") {
  const support::Folder folder;
  const auto hidden = [](const Device& device, std::uint64_t start) {
    const Bytes boot = device.read(start);
    return static_cast<std::uint64_t>(boot[28] | boot[29] << 8 | boot[30] << 16);
  };
  const auto device = odd_fields();
  CHECK(hidden(*device, 72048) == 2048);  // as old systems count: from the EBR
  run_in(*device, assessed(*device, {"table=gpt"}), folder / "gpt");
  CHECK(hidden(*device, 72048) == 72048);
  CHECK(hidden(*device, 2048) == 2048);

  // A chain that is made anew moves the EBR: what was right by it is not any more.
  const auto chain = odd_fields();
  run_in(*chain, assessed(*chain, {"p2=logical"}), folder / "chain");
  CHECK(hidden(*chain, 72048) == 72048);

  // A volume that becomes NTFS on the way has it right from the start.
  const auto both = odd_fields();
  run_in(*both, assessed(*both, {"p5=ntfs", "table=gpt"}), folder / "both");
  CHECK(hidden(*both, 72048) == 72048);
  CHECK(recognise_volume(Window(*both, {72048, 40000})).kind == VolumeKind::ntfs);

  // What was wrong before stays, with a note, until legacy firmware goes by it.
  const auto wrong = odd_fields();
  Bytes boot = wrong->read(2048);
  boot[28] = 63;
  wrong->write(2048, boot);
  const Survey survey = survey_disk(*wrong, support::utc());
  const Finding* note = find_code(survey.find(1)->findings, Rule::volume_hidden_sectors);
  REQUIRE(note != nullptr);
  CHECK(note->severity == Severity::note);
  CHECK(assess_repair(*wrong, support::utc()).steps.empty());
  // One of 1986, whose code begins before that field ends, isn't touched.
  const auto old = wrong->clone();
  boot[0] = 0xEB;
  boot[1] = 0x1C;
  old->write(2048, boot);
  CHECK(find_code(survey_disk(*old, support::utc()).find(1)->findings,
                  Rule::volume_hidden_sectors) == nullptr);
  run_in(*old, assessed(*old, {"p1.active=yes"}), folder / "old");
  CHECK(old->read(2048) == boot);
  run_in(*wrong, assessed(*wrong, {"p1.active=yes"}), folder / "on");
  CHECK(hidden(*wrong, 2048) == 2048);
}

// Goals about room, drawn at random and mixed with all others: what the planner says is in reach is
// done, sound, as it was said, and can be put back.

#include <filesystem>
#include <functional>
#include <map>

#include <fmt/core.h>

#include "foreign_disk.h"
#include "foreign_fat.h"
#include "foreign_ntfs.h"
#include "orrelune.h"
#include "random_goals.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

std::uint64_t volume_length(const SurveyedPartition& s) {
  return s.volume->sectors + (s.volume->kind == VolumeKind::ntfs ? 1 : 0);
}

struct RoomCounts {
  int done = 0, steps = 0, refused = 0, contradictions = 0;
  int back = 0, kept = 0;  // of disks on which a sector was used that the job gave up
  std::map<std::string, int> why;
};

// As it was said, and as the goals say.
void must_be_as_wished(const Device& disk, const Assessment& a) {
  const Survey survey = survey_disk(disk, utc(), true);
  CHECK(survey.table.layout == a.after);
  for (const Finding& f : survey.all_findings())
    CHECK_MESSAGE(f.severity != Severity::error, f.text);
  for (const Goal& goal : a.goals) {
    const auto* front = goal.as<FrontGoal>();
    const auto* label = goal.as<LabelGoal>();
    const auto* size = goal.as<SizeGoal>();
    if (front == nullptr && label == nullptr && size == nullptr) continue;
    const Partition& before = *a.before.find(*goal.partition());
    const auto now = std::find_if(survey.partitions.begin(), survey.partitions.end(),
                                  [&](const SurveyedPartition& s) {
                                    return s.partition.start == a.after.find(before.id)->start &&
                                           s.partition.role != Role::extended;
                                  });
    REQUIRE(now != survey.partitions.end());
    if (front != nullptr) {
      CHECK(now->partition.start < before.start);
      CHECK(now->partition.range().end() >= before.range().end());
      if (front->bytes)
        CHECK((before.start - now->partition.start) * disk.sector_size() >= *front->bytes);
      CHECK(now->partition.range().contains(before.start));
      CHECK(volume_length(*now) == now->partition.sectors);
      const Bytes boot = disk.read(now->partition.start);
      const std::uint64_t hidden = boot[28] | boot[29] << 8 | boot[30] << 16;
      CHECK(hidden == now->partition.start);
      continue;
    }
    if (label != nullptr) {
      // FAT has no small letters in labels.
      CHECK(fold_case(to_utf16(now->volume->label)) == fold_case(to_utf16(label->label)));
      continue;
    }
    CHECK(volume_length(*now) == now->partition.sectors);
    const std::uint64_t sector = disk.sector_size();
    using Kind = SizeGoal::Kind;
    if (size->kind == Kind::exactly) CHECK(now->partition.sectors == div_up(size->bytes, sector));
    if (size->kind == Kind::max || size->kind == Kind::more)
      CHECK(now->partition.sectors >= before.sectors);
    if (size->kind == Kind::min || size->kind == Kind::less)
      CHECK(now->partition.sectors <= before.sectors);
  }
}

void try_goals(const MemoryDevice& original, const std::vector<Goal>& goals, RoomCounts& counts) {
  std::string text;
  for (const Goal& g : goals) text += g.text() + " ";
  CAPTURE(text);
  Random random(1);
  Assessment a;
  try {
    a = assess(original, goals, utc(), random);
  } catch (const Error& e) {
    if (e.code() != ErrorCode::words) MESSAGE(e.message());
    REQUIRE(e.code() == ErrorCode::words);
    ++counts.contradictions;
    return;
  }
  if (!a.in_reach()) {
    ++counts.refused;
    for (const Obstacle& o : a.obstacles) ++counts.why[name_of(o)];
    CHECK(a.after == a.before);
    return;
  }
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  JobOptions options = support::case_in_memory(folder / "case");
  options.proof = random.below(2) == 0 ? Proof::places : Proof::contents;
  options.undo = random.below(3) == 0 ? Undo::live : Undo::full;
  const auto disk = original.clone();
  const JobResult result = run_job(*disk, a, options, quiet);
  for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
  for (const Finding& f : result.findings_after)
    MESSAGE(std::string(name_of(f.code)) << ": " << f.text);
  CHECK(result.sound());
  must_be_as_wished(*disk, a);
  const auto way_back =
      support::use_what_was_given_up(original, *disk, load_case(folder / "case"), random);
  counts.back += way_back == support::WayBack::whole ? 1 : 0;
  counts.kept += way_back == support::WayBack::refused ? 1 : 0;
  (void)revert_case(*disk, load_case(folder / "case"), {}, quiet);
  if (options.undo == Undo::full) CHECK(disk->same_as(original));
  CHECK(compare(take_manifest(original, utc(), quiet), take_manifest(*disk, utc(), quiet)).equal());
  ++counts.done;
  counts.steps += static_cast<int>(a.steps.size());
}

std::vector<const scenarios::Scenario*> scenarios_of_one_size() {
  std::vector<const scenarios::Scenario*> out;
  for (const scenarios::Scenario& s : scenarios::all()) {
    const bool whole = !s.goals.empty() && s.sectors * s.sector_size == 70000 * 512;
    if (whole) out.push_back(&s);
  }
  return out;
}

std::unique_ptr<MemoryDevice> disk_of_a_scenario(Random& random) {
  static const auto disks = scenarios_of_one_size();
  const scenarios::Scenario& s = *disks[random.below(disks.size())];
  auto out = std::make_unique<MemoryDevice>(s.sectors, s.sector_size);
  s.make(*out);
  return out;
}

void try_random(std::uint64_t first_seed, std::uint64_t rounds,
                const std::function<std::unique_ptr<MemoryDevice>(Random&)>& make) {
  RoomCounts counts;
  if (support::is_long()) rounds = 3000;
  for (std::uint64_t seed = first_seed; seed < first_seed + rounds; ++seed) {
    CAPTURE(seed);
    Random random(support::seed(seed));
    const auto original = make(random);
    const Layout layout = read_table(*original).layout;
    std::vector<Goal> goals;
    const std::uint64_t count = 1 + random.below(6);
    while (goals.size() < count) goals.push_back(parse_goal(support::random_goal(random, layout)));
    const bool fat = std::any_of(goals.begin(), goals.end(), [](const Goal& g) {
      const auto* kind = g.as<KindGoal>();
      return kind != nullptr && kind->kind == VolumeKind::fat16;
    });
    if (fat && random.below(4) > 0) goals.push_back(parse_goal("names=safe"));
    try_goals(*original, goals, counts);
  }
  std::string why;
  for (const auto& [code, n] : counts.why) why += fmt::format(" {} {}", n, code);
  MESSAGE(counts.done << " done in " << counts.steps << " steps, " << counts.refused
                      << " refused:" << why << "; given up and used since: " << counts.back
                      << " went back whole, " << counts.kept << " refused to; "
                      << counts.contradictions << " goals that contradict each other");
  CHECK(counts.done > static_cast<int>(rounds / 10));
}

// One random goal, done; false where it isn't in reach.
bool do_one(MemoryDevice& disk, Random& random, const JobOptions& options) {
  const Goal goal = parse_goal(support::random_goal(random, read_table(disk).layout));
  QuietProgress quiet;
  try {
    const Assessment a = assess(disk, {goal}, utc(), random);
    return a.in_reach() && run_job(disk, a, options, quiet).sound();
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::words);
    return false;
  }
}

}  // namespace

TEST_CASE("room: of two jobs the second goes back, then the first: whole, or refused") {
  QuietProgress quiet;
  int both = 0, refused = 0;
  for (std::uint64_t seed = 1; seed <= (support::is_long() ? 3000u : 150u); ++seed) {
    CAPTURE(seed);
    Random random(support::seed(seed));
    const auto all = scenarios_of_one_size();
    const scenarios::Scenario& s = *all[random.below(all.size())];
    CAPTURE(s.name);
    MemoryDevice original(s.sectors, s.sector_size);
    s.make(original);
    const auto disk = original.clone();
    const support::Folder folder(support::Folder::Where::memory);
    JobOptions first = support::case_in_memory(folder / "first");
    JobOptions second = support::case_in_memory(folder / "second");
    first.undo = random.below(2) == 0 ? Undo::live : Undo::full;
    second.undo = random.below(2) == 0 ? Undo::live : Undo::full;
    if (!do_one(*disk, random, first)) continue;
    const Manifest between = take_manifest(*disk, utc(), quiet);
    if (!do_one(*disk, random, second)) continue;
    (void)revert_case(*disk, load_case(folder / "second"), {}, quiet);
    CHECK(compare(between, take_manifest(*disk, utc(), quiet)).equal());
    const auto was = disk->clone();
    try {
      (void)revert_case(*disk, load_case(folder / "first"), {}, quiet);
      CHECK(compare(take_manifest(original, utc(), quiet), take_manifest(*disk, utc(), quiet))
                .equal());
      ++both;
    } catch (const Error& e) {
      // The second kept no free sectors; what the first gave up is among them.
      CHECK(e.code() == ErrorCode::refused);
      CHECK(second.undo == Undo::live);
      CHECK(disk->same_as(*was));
      ++refused;
    }
  }
  MESSAGE(both << " pairs of jobs went back, of " << refused << " the first refused to");
  CHECK(both > 20);
}

TEST_CASE("room 1 of 2: goals drawn at random are done as said, or refused") {
  try_random(1, 260, disk_of_a_scenario);
}
TEST_CASE("room 2 of 2: goals drawn at random are done as said, or refused") {
  try_random(100001, 260, disk_of_a_scenario);
}
TEST_CASE("room: goals drawn at random, on disks of other hands") {
  try_random(1, 150, foreign::random_disk);
}
TEST_CASE("room: goals drawn at random, on tables of other hands") {
  try_random(1, 150, foreign::random_table);
}

namespace {

// An MBR whose primaries lie there, all of one type.
Layout write_primaries(Device& disk, const std::vector<SectorRange>& places, std::uint8_t type) {
  Layout layout = disk_bytes::mbr(disk.sectors(), disk.sector_size(), 0x0BB0E500);
  for (const SectorRange& place : places) disk_bytes::add(layout, Role::primary, place, type);
  write_new_table(disk, layout);
  return layout;
}

// Partitions one after the other without a gap, the last one up to the disk's last sector.
std::unique_ptr<MemoryDevice> packed_disk(std::uint32_t sector_size, bool as_ntfs) {
  const std::uint64_t unit = sector_size / 512;
  auto disk = std::make_unique<MemoryDevice>(60000 / unit, sector_size);
  std::vector<SectorRange> places;
  for (unsigned i = 0; i < 3; ++i) {
    const std::uint64_t start = (i == 0 ? 63 : i * 20000) / unit + (i == 0 && unit > 1 ? 1 : 0);
    places.push_back({start, (i + 1) * 20000 / unit - start});
  }
  const Layout layout = write_primaries(*disk, places, 0x06);
  for (const Partition& p : layout.partitions) {
    WritableWindow window(*disk, p.range());
    FatFormat format;
    format.kind = sector_size == 512 ? VolumeKind::fat16 : VolumeKind::fat12;
    format.cluster_sectors = 1;
    format.hidden_sectors = p.start;
    format.serial = p.number;
    FatWriter writer(window, format);
    FatFileInfo last;
    last.placement = Placement::at_end;
    writer.add_file("LAST.BIN", Bytes(9000, 0x4C), last);
    writer.finish();
    if (as_ntfs) orrelune::play(*disk, fmt::format("p{}=ntfs", p.number).c_str(), 8);
  }
  return disk;
}

}  // namespace

TEST_CASE("room: a table that lacks a few sectors offers goals that work") {
  for (const bool as_ntfs : {false, true}) {
    for (const std::uint32_t sector_size : {512u, 4096u}) {
      CAPTURE(as_ntfs);
      CAPTURE(sector_size);
      const auto disk = packed_disk(sector_size, as_ntfs);
      for (const char* word : {"table=gpt", "p2=logical", "p3=logical"}) {
        CAPTURE(word);
        Random random(1);
        const Assessment no = assess(*disk, {parse_goal(word)}, utc(), random);
        REQUIRE_FALSE(no.in_reach());
        REQUIRE(no.obstacles.size() == 1);
        const Obstacle& o = no.obstacles[0];
        CHECK(o.missing_sectors > 0);
        REQUIRE(o.goals.size() == 2);
        CHECK(o.remedy.starts_with("Add " + o.goals[1].text()));
        RoomCounts counts;
        try_goals(*disk, o.goals, counts);
        CHECK(counts.done == 1);
      }
    }
  }
}

namespace {

// The obstacle's code, and that it says what and what to do.
std::string refused_for(const Device& disk, std::initializer_list<const char*> words) {
  std::vector<Goal> goals;
  std::transform(words.begin(), words.end(), std::back_inserter(goals), parse_goal);
  Random random(1);
  const Assessment a = assess(disk, goals, utc(), random);
  if (a.in_reach()) return "";
  CHECK(a.steps.empty());
  CHECK(a.after == a.before);
  for (const Obstacle& o : a.obstacles) {
    CHECK_FALSE(o.text.empty());
    CHECK_FALSE(o.remedy.empty());
  }
  return name_of(a.obstacles[0]);
}

}  // namespace

TEST_CASE("room: what can't be done is refused by name, with what would remove it") {
  const scenarios::Scenario& s = scenarios::all()[0];
  MemoryDevice disk(s.sectors, s.sector_size);
  s.make(disk);
  CHECK(refused_for(disk, {"p1.size=1GiB"}) == "size-room");
  CHECK(refused_for(disk, {"p1.size=-1GiB"}) == "size-zero");
  CHECK(refused_for(disk, {"p1.size=600KiB"}) != "");
  CHECK(refused_for(disk, {"p2.size=+100KiB"}) == "size-contents");
  CHECK(refused_for(disk, {"p2.label=BOJE"}) == "label-contents");
  CHECK(refused_for(disk, {"p1.label=Boje*"}) == "label");
  CHECK(refused_for(disk, {"p1.label=V1"}) == "already");
  CHECK(refused_for(disk, {"p1.size=4800KiB"}) == "already");
  CHECK(refused_for(disk, {"g7=raw"}) == "no-gap");
  CHECK(refused_for(disk, {"g1=ntfs:1GiB"}) == "gap-room");
  CHECK(refused_for(disk, {"g1=fat32"}) == "volume-size");
  CHECK(refused_for(disk, {"p5=gone", "p6.size=max"}) == "");
  // The most that is offered is in reach, and no sector more.
  Random random(1);
  const Assessment no = assess(disk, {parse_goal("p1.size=1GiB")}, utc(), random);
  CHECK(no.obstacles[0].missing_sectors == (1u << 21) - (10000 - 64));
  CHECK(no.obstacles[0].goals.empty());  // no whole MiB more
  CHECK(refused_for(disk, {"p1.size=max"}) == "already");
  const Assessment offer = assess(disk, {parse_goal("p6.size=1GiB")}, utc(), random);
  REQUIRE(offer.obstacles[0].goals.size() == 1);
  CHECK(offer.obstacles[0].goals[0].text() == "p6.size=max");
  CHECK(refused_for(disk, {"p6.size=max"}) == "");
  CHECK(refused_for(disk, {"p1.size=4968KiB"}) == "");
  CHECK(refused_for(disk, {"p1.size=4969KiB"}) == "size-room");
  CHECK(refused_for(disk, {"p2.front=+8KiB"}) == "size-contents");
  CHECK(refused_for(disk, {"p5.front=+5MiB"}) == "front-space");
  const Assessment earlier = assess(disk, {parse_goal("p5.front=+5MiB")}, utc(), random);
  REQUIRE(earlier.obstacles[0].goals.size() == 1);
  CHECK(earlier.obstacles[0].goals[0].text() == "p5.front=max");
  CHECK(refused_for(disk, {"p5.front=max"}) == "");
  for (const char* size : {"min", "-1MiB", "7MiB"})
    CHECK(support::code_of([&] {
            (void)refused_for(disk, {"p5.front=max", (std::string("p5.size=") + size).c_str()});
          }) == ErrorCode::words);

  // Each is one thing.
  for (const auto& [one, other] : {std::pair{"p1.cluster=4KiB", "p1.cluster=8KiB"},
                                   {"esp=100MiB", "esp=200MiB"},
                                   {"p1=ntfs", "p1=fat16"},
                                   {"table=gpt", "table=mbr"}})
    CHECK_MESSAGE(support::code_of([&] {
                    (void)refused_for(disk, {one, other});
                  }) == ErrorCode::words,
                  one);

  // A root folder of 512 entries, all taken and no label among them.
  MemoryDevice full(20000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 2;
  FatWriter writer(full, format);
  for (int i = 0; i < 512; ++i) writer.add_file(fmt::format("F{}", i), Bytes(10, 1));
  writer.finish();
  CHECK(refused_for(full, {"volume.label=BOJE"}) == "root-full");
  CHECK(refused_for(full, {"volume.label="}) == "already");
}

TEST_CASE("room: four primaries and no slot: the refusal names roles that make a place") {
  MemoryDevice disk(90000, 512);
  // With a track between them, as old disks have it.
  std::vector<SectorRange> places;
  for (unsigned i = 0; i < 4; ++i) places.push_back({63 + i * 16065ull, 16065 - 63});
  (void)write_primaries(disk, places, 0xDA);
  Random random(1);
  const Assessment no = assess(disk, {parse_goal("g1=ntfs")}, utc(), random);
  REQUIRE(no.obstacles.size() == 1);
  CHECK(no.obstacles[0].code == ObstacleCode::no_arrangement);
  REQUIRE(no.obstacles[0].goals.size() > 1);
  CHECK(no.obstacles[0].goals[0].text() == "g1=ntfs");
  RoomCounts counts;
  try_goals(disk, no.obstacles[0].goals, counts);
  CHECK(counts.done == 1);
}

TEST_CASE("room: the EBR of a new logical partition is in front of it, not of another one") {
  MemoryDevice disk(200000, 512);
  using disk_bytes::add;
  Layout layout = disk_bytes::mbr(disk.sectors(), 512, 0x0E0B0001);
  for (unsigned i = 0; i < 3; ++i) add(layout, Role::primary, {2048 + i * 4096, 4096}, 0xDA);
  add(layout, Role::extended, {20480, 18432}, 0x0F);
  // With a MiB in front of it.
  add(layout, Role::logical, {22528, 16384}, 0xDA).table_sector = 20480;
  layout.sort();
  write_new_table(disk, layout);
  for (const char* goal : {"g1=ntfs", "g1=fat16:20MiB"}) {
    CAPTURE(std::string(goal));
    Random random(1);
    const Assessment a = assess(disk, {parse_goal(goal)}, utc(), random);
    for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
    REQUIRE(a.in_reach());
    const Partition* made = a.after.find(6);
    REQUIRE(made != nullptr);
    CHECK(made->table_sector == made->start - 1);
    CHECK(*made->table_sector >= a.after.find(5)->range().end());
    RoomCounts counts;
    try_goals(disk, {parse_goal(goal)}, counts);
    CHECK(counts.done == 1);
  }
}

TEST_CASE("room: what goes and what then begins at the same sector are two") {
  MemoryDevice disk(70000, 512);
  const Layout layout = write_primaries(
      disk, {{2048, 20480}, {2048 + 20480, 20480}, {2048 + 2 * 20480, 20480}}, 0x06);
  for (const Partition& p : layout.partitions) {
    WritableWindow window(disk, p.range());
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 2;
    format.hidden_sectors = p.start;
    format.label = "V" + std::to_string(p.number);
    FatWriter writer(window, format);
    Random random(p.number);
    orrelune::fill_volume(writer, random, 6);
    writer.finish();
  }
  RoomCounts counts;
  for (const char* second : {"g1=ntfs", "g1=raw", "p2.front=max"}) {
    CAPTURE(second);
    const std::vector<Goal> goals = {parse_goal("p1=gone"), parse_goal(second)};
    Random random(1);
    const Assessment a = assess(disk, goals, utc(), random);
    REQUIRE(a.in_reach());
    CHECK(a.after.data_partitions()[0].start == 2048);
    const std::string text = assessment_text(a, {});
    const std::size_t map = text.find("\n  after");
    const std::string after = text.substr(map, text.find("\n\n", map) - map);
    CHECK(after.find("V1") == std::string::npos);
    CHECK(after.find("V2") != std::string::npos);
    try_goals(disk, goals, counts);
  }
  CHECK(counts.done == 3);
}

TEST_CASE("room: a volume shorter than its partition fills it") {
  for (const char* kind : {"fat16", "ntfs"}) {
    CAPTURE(kind);
    // As a copy of a smaller disk leaves it: the table says more than the volume.
    MemoryDevice disk(60000, 512);
    Layout layout = write_primaries(disk, {{2048, 20000}}, 0x06);
    const Partition p = layout.partitions[0];
    {
      WritableWindow window(disk, p.range());
      FatFormat format;
      format.kind = VolumeKind::fat16;
      format.cluster_sectors = 2;
      format.hidden_sectors = p.start;
      FatWriter writer(window, format);
      Random random(4);
      orrelune::fill_volume(writer, random, 6);
      writer.finish();
    }
    if (kind == std::string("ntfs")) orrelune::play(disk, "p1=ntfs", 8);
    layout = read_table(disk).layout;
    layout.partitions[0].sectors = 57000;
    write_new_table(disk, layout);
    RoomCounts counts;
    try_goals(disk, {parse_goal("p1.size=57000B")}, counts);
    CHECK(counts.done == 0);
    try_goals(disk, {parse_goal("p1.size=29184000B")}, counts);
    try_goals(disk, {parse_goal("p1.size=max")}, counts);
    CHECK(counts.done == 2);
  }
}

TEST_CASE("room: the volume of a disk without a table becomes shorter, and fills it again") {
  for (const char* kind : {"fat16", "ntfs"}) {
    CAPTURE(kind);
    const bool ntfs = kind == std::string("ntfs");
    MemoryDevice disk(60000, 512);
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 2;
    FatWriter writer(disk, format);
    Random random(4);
    orrelune::fill_volume(writer, random, 6);
    writer.finish();
    if (ntfs) orrelune::play(disk, "volume=ntfs", 8);
    const auto length = [&] { return volume_length(survey_disk(disk, utc()).partitions[0]); };
    CHECK(refused_for(disk, {"volume.size=max"}) == "already");
    CHECK(refused_for(disk, {"volume.size=+1MiB"}) == "size-room");
    const support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    const auto run = [&](const char* word) {
      const Assessment a = assess(disk, {parse_goal(word)}, utc(), random);
      REQUIRE(a.in_reach());
      CHECK(run_job(disk, a, support::case_in_memory(folder / word), quiet).sound());
      return length();
    };
    CHECK(run("volume.size=-3MiB") == 60000 - 6144);
    CHECK(run("volume.size=+1MiB") == 60000 - 4096);
    CHECK(run("volume.size=min") < 30000);
    CHECK(run("volume.size=max") == 60000);
  }
}

TEST_CASE("room: a full MBR disk that was copied to a larger one: a GPT, and NTFS past 2 TiB") {
  // All that clusters of 4 KiB can count takes a bitmap of 512 MiB.
  const support::Folder folder;
  const auto image = folder / "disk.img";
  create_image(image, orrelune::instrument_sectors(512), 512, true);
  orrelune::make_instrument_disk(*open_device(image, {true, 512}));
  const std::uint64_t tib = std::uint64_t{1} << 40;
  std::filesystem::resize_file(image, support::is_long() ? 16 * tib - 4096 : 3 * tib);
  const auto device = open_device(image, {true, 512});
  Random random(1);
  const Assessment a =
      assess(*device, {parse_goal("table=gpt"), parse_goal("p1.size=max")}, utc(), random);
  REQUIRE(a.in_reach());
  QuietProgress quiet;
  JobOptions options;
  options.read = utc();
  options.case_folder = folder / "case";
  CHECK(run_job(*device, a, options, quiet).sound());
  must_be_as_wished(*device, a);
  CHECK(survey_disk(*device, utc()).partitions[0].volume->bytes > 2 * tib);
}

TEST_CASE(
    "room: an NTFS volume that fills its partition to the last sector has no second boot sector") {
  MemoryDevice whole(20000, 512);
  FatFormat format;
  format.kind = VolumeKind::fat16;
  format.cluster_sectors = 2;
  FatWriter writer(whole, format);
  Random random(4);
  orrelune::fill_volume(writer, random, 6);
  writer.finish();
  orrelune::play(whole, "volume=ntfs", 8);
  // Its partition ends where the second boot sector was; there another one begins.
  MemoryDevice disk(40000, 512);
  (void)write_primaries(disk, {{2048, 19999}, {2048 + 19999, 5000}}, 0x07);
  for (std::uint64_t i = 0; i < 19999; ++i) disk.write(2048 + i, whole.read(i));
  disk.write(2048 + 19999, Bytes(512, 0x33));
  RoomCounts counts;
  try_goals(disk, {parse_goal("p1.label=Boje")}, counts);
  try_goals(disk, {parse_goal("p1=fat16")}, counts);
  try_goals(disk, {parse_goal("p1.size=-1MiB"), parse_goal("p1.label=Boje")}, counts);
  try_goals(disk, {parse_goal("p2=gone"), parse_goal("p1.size=+3MiB")}, counts);
  CHECK(counts.done == 4);
}

TEST_CASE("room: to the front, where the EBR is that the table has until then") {
  RoomCounts counts;
  for (const bool ntfs : {true, false}) {
    CAPTURE(ntfs);
    MemoryDevice disk(200000, 512);
    using disk_bytes::add;
    Layout layout = disk_bytes::mbr(200000, 512, 0x0DDBA115);
    add(layout, Role::extended, {2048, 190000}, 0x0F);
    add(layout, Role::logical, {4096, 40000}, 0x07).table_sector = 2048;
    // Right after the one before it.
    add(layout, Role::logical, {44096 + 2048, 65536}, 0x07).table_sector = 44096;
    layout.sort();
    const std::uint64_t start = layout.find(6)->start;
    std::unique_ptr<MemoryDevice> from;
    if (ntfs) {
      from = foreign::ntfs({}, 65536 * 512, start * 512).disk;
    } else {
      from = foreign::fat(foreign::fat_shapes()[8], start, 200000).disk;
      layout.partitions.back().sectors = read_table(*from).layout.partitions[0].sectors;
    }
    disk_bytes::copy_data(*from, disk, start);
    write_new_table(disk, layout);
    try_goals(disk, {parse_goal("p6.front=max")}, counts);
  }
  CHECK(counts.done == 2);
}

TEST_CASE("room: restore points, which a change of their volume spoils, are agreed to and end") {
  const std::uint8_t mark[] = {0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E,
                               0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    for (const bool kept : {true, false}) {
      for (const char* goal : {"p1.label=EBBE", "p1.size=-4MiB", "p1.size=min", "p1.front=+1MiB",
                               "p1=fat32", "p1=fat16", "table=gpt", "p1=logical"}) {
        CAPTURE(sector_size);
        CAPTURE(std::string(goal));
        const bool of_table = std::string(goal) == "table=gpt" || std::string(goal) == "p1=logical";
        const std::uint64_t mib = (1u << 20) / sector_size;
        auto disk = support::disk(300 * mib, sector_size);
        Random random(5);
        Layout layout = disk_bytes::mbr(disk->sectors(), sector_size, 0x4F52524C);
        disk_bytes::add(layout, Role::primary, {4 * mib, 290 * mib}, 0x0C);
        write_new_table(*disk, layout);
        {
          WritableWindow place(*disk, {4 * mib, 290 * mib});
          FatFormat format;
          format.hidden_sectors = static_cast<std::uint32_t>(4 * mib);
          format.kind = VolumeKind::fat16;
          format.cluster_sectors = sector_size == 512 ? 16 : 2;
          FatWriter writer(place, format);
          writer.add_file("PEGEL.BIN", support::noise(90000, 1));
          writer.finish();
        }
        const support::Folder folder(support::Folder::Where::memory);
        const auto done = [&](const char* words, const char* name) {
          Assessment a = assess(*disk, {parse_goal(words)}, utc(), random);
          for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
          REQUIRE(a.in_reach());
          QuietProgress quiet;
          JobOptions options = support::case_in_memory(folder / name);
          options.read = utc();
          CHECK(run_job(*disk, a, options, quiet).sound());
          return a;
        };
        (void)done("p1=ntfs", "ntfs");
        const std::uint64_t at = 7680 / sector_size;
        const auto there = [&] {
          const std::uint64_t start = read_table(*disk).layout.partitions.back().start;
          const Bytes sector = disk->read(start + at);
          return std::equal(std::begin(mark), std::end(mark), sector.begin() + 7680 % sector_size);
        };
        Bytes sector = disk->read(4 * mib + at);
        if (kept) std::copy(std::begin(mark), std::end(mark), sector.begin() + 7680 % sector_size);
        disk->write(4 * mib + at, sector);
        const auto before = disk->clone();
        const Assessment a = done(goal, "change");
        const auto said = std::count_if(a.consents.begin(), a.consents.end(), [](const auto& c) {
          return c.code == ConsentCode::restore_points;
        });
        CHECK(said == (kept && !of_table ? 1 : 0));
        CHECK(there() == (kept && of_table));
        QuietProgress quiet;
        (void)revert_case(*disk, load_case(folder / "change"), {}, quiet);
        CHECK(disk->same_as(*before));
      }
    }
  }
}

TEST_CASE("room: a new partition in which nothing is written, where an old volume begins") {
  const foreign::FatVolume v = foreign::fat(foreign::fat_shapes()[8], 2048, 60000);
  const Layout layout = read_table(*v.disk).layout;
  const std::uint64_t length = layout.partitions[0].sectors * 512;
  const auto assessed = [&](const std::string& goal) {
    Random random(1);
    return assess(*v.disk, {parse_goal("p1=gone"), parse_goal(goal)}, utc(), random);
  };
  const Assessment shorter = assessed("g1=raw:5MiB");
  REQUIRE(!shorter.in_reach());
  CHECK(shorter.obstacles[0].code == ObstacleCode::old_volume);
  const Assessment whole =
      assessed(fmt::format("g1=raw:{}KiB", div_up<std::uint64_t>(length, 1024)));
  REQUIRE(whole.in_reach());
  CHECK(std::any_of(whole.consents.begin(), whole.consents.end(),
                    [](const Consent& c) { return c.code == ConsentCode::old_volume; }));
  RoomCounts counts;
  try_goals(*v.disk, whole.goals, counts);
  CHECK(counts.done == 1);
  CHECK(assessed("g1=fat16").in_reach());
}

TEST_CASE("room: from a GPT to an MBR whose last partition reaches the disk's last sector") {
  int to_the_end = 0;
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    CAPTURE(sector_size);
    auto disk = std::make_unique<MemoryDevice>((64u << 20) / sector_size, sector_size);
    const std::uint64_t mib = (1u << 20) / sector_size;
    Random random(4);
    Layout layout = disk_bytes::gpt(disk->sectors(), sector_size, random);
    disk_bytes::add(layout, {mib, 20 * mib}, random);
    disk_bytes::add(layout, {30 * mib, 20 * mib}, random);
    write_new_table(*disk, layout);
    for (const Partition& p : layout.partitions)
      foreign::put_tides(*disk, p.range(), VolumeKind::fat12, 4096 * 4 / sector_size, p.number);
    const auto as_ntfs = disk->clone();
    orrelune::play(*as_ntfs, "p2=ntfs", 8);
    const auto try_words = [&](const MemoryDevice& original, std::vector<std::string> words) {
      std::vector<Goal> goals;
      std::transform(words.begin(), words.end(), std::back_inserter(goals), parse_goal);
      RoomCounts counts;
      try_goals(original, goals, counts);
      for (const auto& [code, n] : counts.why) MESSAGE(words.back() << ": " << code << n);
      CHECK(counts.done == 1);
      Random again(1);
      const Assessment a = assess(original, goals, utc(), again);
      if (a.after.data_partitions().back().range().end() == original.sectors()) ++to_the_end;
    };
    try_words(*disk, {"table=mbr", "p2.size=+14MiB"});
    try_words(*as_ntfs, {"table=mbr", "p2.size=+14MiB"});
    try_words(*disk, {"table=mbr", "p2.size=max"});
    try_words(*disk, {"table=mbr", "p1=logical", "p2=logical", "p2.size=+14MiB"});
  }
  CHECK(to_the_end >= 6);
}

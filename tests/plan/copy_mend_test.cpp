// What there are two of, and one is lost: boot sectors, the first records of NTFS.

#include <algorithm>
#include <functional>

#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::manifest_of;
using support::utc;

namespace {

constexpr std::uint64_t start = 2048;

// Filled like the station's volumes.
void fill(Device& volume, VolumeKind kind, std::uint64_t first) {
  FatFormat format;
  format.kind = VolumeKind::fat32;
  format.cluster_sectors = 1;
  format.label = "PEGEL";
  format.hidden_sectors = first;
  volumes::align_data(format, volume.sectors(), volume.sector_size(), true);
  Random random(5);
  FatWriter writer(volume, format);
  orrelune::fill_volume(writer, random, 12);
  writer.finish();
  if (kind == VolumeKind::ntfs) orrelune::play(volume, "volume=ntfs", 5);
}

// One partition, or none, with such a volume.
std::unique_ptr<MemoryDevice> disk_with(VolumeKind kind, TableKind table,
                                        std::uint32_t sector_size = 512) {
  constexpr std::uint64_t length = 75000;
  auto out = support::disk(table == TableKind::none ? length : start + length + 4096, sector_size);
  if (table == TableKind::none) {
    fill(*out, kind, 0);
    return out;
  }
  Layout layout;
  layout.kind = table;
  layout.sector_size = sector_size;
  layout.disk_sectors = out->sectors();
  Partition p;
  p.number = 1;
  p.start = start;
  p.sectors = length;
  if (table == TableKind::gpt) {
    Random random(4);
    layout.disk_guid = Guid::random(random);
    layout.first_usable = gpt_first_usable(sector_size);
    layout.last_usable = out->sectors() - gpt_array_sectors(sector_size) - 2;
    p.role = Role::gpt;
    p.type = basic_data_guid();
    p.unique_id = Guid::random(random);
  } else {
    layout.disk_signature = 0x0B0E0001;
    p.role = Role::primary;
    p.type = std::uint8_t{7};
  }
  layout.partitions.push_back(p);
  write_new_table(*out, layout);
  WritableWindow window(*out, p.range());
  fill(window, kind, p.start);
  return out;
}

std::uint64_t first_of(const Device& disk) {
  const Layout layout = read_table(disk).layout;
  return layout.partitions.empty() ? 0 : layout.partitions.front().start;
}

const Finding& lost(const Survey& survey) {
  const Finding* f = find_code(survey.partitions.at(0).findings, Rule::volume_boot_lost);
  REQUIRE(f != nullptr);
  return *f;
}

Assessment repair_of(const Device& disk) {
  return assess_repair(disk, utc(), Unowned::free);
}

struct Damage {
  const char* name;
  std::function<void(Bytes&)> apply;
  Severity severity;
};

const std::vector<Damage>& damages() {
  static const std::vector<Damage> all = {
      {"zeros", [](Bytes& s) { std::fill(s.begin(), s.end(), std::uint8_t{0}); }, Severity::error},
      {"another's", [](Bytes& s) { Random(3).fill(s); }, Severity::warning},
      {"a boot sector of nothing",
       [](Bytes& s) {
         Random(3).fill(s);
         s[510] = 0x55;
         s[511] = 0xAA;
       },
       Severity::error},
      {"fields that make no sense",
       [](Bytes& s) {
         s[11] = 0x33;  // bytes a sector
         s[13] = 0;
       },
       Severity::error},
  };
  return all;
}

}  // namespace

TEST_CASE("boot sector: however it was lost, the volume is there again with every file, and back") {
  struct Kind {
    VolumeKind kind;
    TableKind table;
    std::uint32_t sector_size;
  };
  const std::vector<Kind> kinds = {{VolumeKind::fat32, TableKind::mbr, 512},
                                   {VolumeKind::fat32, TableKind::none, 512},
                                   {VolumeKind::ntfs, TableKind::mbr, 512},
                                   {VolumeKind::ntfs, TableKind::gpt, 4096},
                                   {VolumeKind::ntfs, TableKind::none, 512}};
  unsigned done = 0;
  for (const Kind& kind : kinds) {
    const auto sound = disk_with(kind.kind, kind.table, kind.sector_size);
    const Manifest recorded = manifest_of(*sound);
    REQUIRE(recorded.volumes.size() == 1);
    const std::uint64_t files = recorded.files();
    REQUIRE(files > 10);
    const std::uint64_t first = first_of(*sound);
    for (const Damage& damage : damages()) {
      // With a table's signature it is a table, for whatever is in it.
      if (kind.table == TableKind::none && damage.name == std::string("a boot sector of nothing"))
        continue;
      for (const Proof proof : {Proof::contents, Proof::places}) {
        CAPTURE(std::string(damage.name));
        CAPTURE(std::string(name_of(kind.kind)));
        CAPTURE(std::string(name_of(kind.table)));
        CAPTURE(std::string(name_of(proof)));
        const auto disk = sound->clone();
        Bytes sector = disk->read(first);
        damage.apply(sector);
        disk->write(first, sector);
        const auto broken = disk->clone();

        CHECK_FALSE(lost(survey_disk(*disk, utc())).repairable);  // it was not checked
        const Survey survey = survey_disk(*disk, utc(), true);
        CHECK_MESSAGE(lost(survey).repairable, lost(survey).text);
        CHECK(lost(survey).severity == damage.severity);
        OpenedVolume opened(*disk, kind.table == TableKind::none ? 0 : 1, utc());
        CHECK(opened.opened_with().has_value());
        CHECK(opened.reader().tree().file_count() == files);
        const Manifest unread = manifest_of(*disk);
        CHECK(unread.files() == 0);
        CHECK_FALSE(unread.whole());

        const Assessment a = repair_of(*disk);
        REQUIRE(a.in_reach());
        REQUIRE(a.steps.size() == 1);
        REQUIRE(a.consents.size() == 1);
        CHECK(a.consents[0].code == ConsentCode::boot_sector);
        const bool unknown = a.consents[0].detail.find("doesn't know") != std::string::npos;
        CHECK(unknown == (damage.severity == Severity::warning));
        support::Folder folder(support::Folder::Where::memory);
        JobOptions options = support::case_in_memory(folder / "case");
        options.proof = proof;
        options.undo = done % 2 == 0 ? Undo::full : Undo::live;
        QuietProgress quiet;
        const JobResult result = run_job(*disk, a, options, quiet);
        CHECK(result.sound());
        CHECK(result.comparison.opened == files);
        CHECK(result.comparison.recorded == 0);
        CHECK(result.comparison.planned_count == 1);
        CHECK_FALSE(result.comparison.partial());
        CHECK(disk->same_as(*sound));
        CHECK(verify_disk(recorded, *disk, utc(), quiet).comparison.equal());
        // Of what could not be read nothing is said to be as recorded.
        const Verification partly = verify_disk(unread, *disk, utc(), quiet);
        CHECK(partly.comparison.equal());
        CHECK(comparison_text(partly.comparison, partly.now, {}).find(": 0 files as recorded") !=
              std::string::npos);
        const CaseRecord record = read_record(folder / "case", disk.get());
        CHECK(record.outcome == Outcome::done);

        const RevertResult back = revert_case(*disk, load_case(folder / "case"), {}, quiet);
        CHECK(back.equal());
        CHECK(disk->same_as(*broken));
        ++done;
      }
    }
  }
  MESSAGE(done << " boot sectors put back, and the loss of each put back as well");
}

TEST_CASE("boot sector: what is not a copy of this volume's is not put there") {
  const auto sound = disk_with(VolumeKind::ntfs, TableKind::mbr);
  const std::uint64_t first = first_of(*sound);
  const std::uint64_t last = read_table(*sound).layout.partitions[0].range().last();
  const Bytes boot = sound->read(first);
  const auto without_first = [&] {
    auto out = sound->clone();
    out->write(first, Bytes(512));
    return out;
  };

  SUBCASE("no copy: nothing is said") {
    const auto disk = without_first();
    disk->write(last, Bytes(512));
    CHECK(survey_disk(*disk, utc(), true).partitions[0].findings.empty());
    CHECK(repair_of(*disk).steps.empty());
  }
  SUBCASE("a copy that says another length isn't in its place") {
    const auto disk = without_first();
    Bytes other = boot;
    support::put(other, 40, 75000, 8);
    disk->write(last, other);
    CHECK(survey_disk(*disk, utc(), true).partitions[0].findings.empty());
  }
  SUBCASE("a copy that is left of a volume of which nothing else is") {
    const auto disk = without_first();
    const auto lba_of = [&](std::size_t field) {
      return first + support::little(boot, field, 8) * boot[13];
    };
    disk->write(lba_of(48), support::noise(512 * 64, 9));
    // The mirror still says where $MFT was.
    const Survey survey = survey_disk(*disk, utc(), true);
    CHECK_FALSE(lost(survey).repairable);
    CHECK(has_errors(survey.partitions[0].findings));
    CHECK(repair_of(*disk).steps.empty());
    disk->write(lba_of(56), support::noise(512 * 8, 9));
    CHECK(survey_disk(*disk, utc(), true).partitions[0].findings.empty());
    CHECK(repair_of(*disk).steps.empty());
  }
  SUBCASE("the volume has other errors: a person must decide, and is told") {
    const auto disk = without_first();
    bool broken = false;
    for (std::uint64_t lba = first; lba < last && !broken; ++lba) {
      Bytes sector = disk->read(lba);
      if (std::equal(sector.begin(), sector.begin() + 4, "INDX")) {
        sector[30] ^= 0x55;
        disk->write(lba, sector);
        broken = true;
      }
    }
    REQUIRE(broken);
    const Survey survey = survey_disk(*disk, utc(), true);
    CHECK_FALSE(lost(survey).repairable);
    CHECK(lost(survey).text.find("wrong") != std::string::npos);
    CHECK(repair_of(*disk).steps.empty());
  }
  SUBCASE("two that are sound: a person must decide") {
    const auto disk = disk_with(VolumeKind::fat32, TableKind::mbr);
    const Bytes fat = disk->read(first);
    Bytes shorter = fat;
    shorter[0x47] ^= 1;  // its label; all else is the same
    const std::uint64_t other = 9;
    shorter[50] = other;
    disk->write(first + other, shorter);
    disk->write(first, Bytes(512));
    const Survey survey = survey_disk(*disk, utc(), true);
    CHECK_FALSE(lost(survey).repairable);
    CHECK(lost(survey).text.find("2 second boot sectors") != std::string::npos);
    CHECK(repair_of(*disk).steps.empty());
  }
  SUBCASE("what is mended in FAT after it comes with the next repair") {
    const auto disk = disk_with(VolumeKind::fat32, TableKind::mbr);
    const Manifest recorded = manifest_of(*disk);
    disk->write(first, Bytes(512));
    disk->write(first + 1, Bytes(512));  // FSInfo, too
    support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    for (const char* job : {"first", "second"}) {
      const Assessment a = repair_of(*disk);
      REQUIRE(a.steps.size() == 1);
      const JobResult result = run_job(*disk, a, support::case_in_memory(folder / job), quiet);
      CHECK(result.comparison.equal());
    }
    const Survey survey = survey_disk(*disk, utc(), true);
    for (const Finding& f : survey.partitions[0].findings)
      CHECK_MESSAGE(f.severity == Severity::note, f.text);
    CHECK(verify_disk(recorded, *disk, utc(), quiet).comparison.equal());
  }
  SUBCASE("other goals wait until it is there again") {
    const auto disk = without_first();
    Random random(1);
    const Assessment a = assess(*disk, {parse_goal("p1.label=ELB")}, utc(), random);
    REQUIRE_FALSE(a.in_reach());
    CHECK(a.obstacles[0].finding == Rule::volume_boot_lost);
    // But not one by which it goes.
    const Assessment gone = assess(*disk, {parse_goal("p1=gone")}, utc(), random);
    REQUIRE(gone.in_reach());
    support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    CHECK(run_job(*disk, gone, support::case_in_memory(folder / "case"), quiet).sound());
  }
}

TEST_CASE("boot sector: where the first one can't be read files are read with the second one") {
  for (const VolumeKind kind : {VolumeKind::fat32, VolumeKind::ntfs}) {
    const auto disk = disk_with(kind, TableKind::gpt);
    const Manifest recorded = manifest_of(*disk);
    FaultPlan plan;
    plan.bad_reads.add({first_of(*disk), 1});
    const FaultDevice bad(*disk, plan);
    const Survey survey = survey_disk(bad, utc(), true);
    const Finding* f = find_code(survey.partitions[0].findings, Rule::volume_unreadable);
    REQUIRE(f != nullptr);
    CHECK(f->text.find("the second boot sector") != std::string::npos);
    CHECK_FALSE(f->repairable);
    CHECK(repair_of(bad).steps.empty());
    OpenedVolume opened(bad, 1, utc());
    REQUIRE(opened.opened_with());
    support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    FetchOptions options;
    options.recorded = &recorded.volumes[0];
    const FetchResult got = fetch_files(opened.reader(), {""}, folder / "out", options, quiet);
    CHECK(got.problems.empty());
    CHECK(got.files == got.checked);
    CHECK(got.files == recorded.files());
  }
}

TEST_CASE("boot sector: sectors that change while one is put back are noticed") {
  // A device that writes one more sector than it was told to.
  class Careless final : public Device {
   public:
    Careless(MemoryDevice& below, std::uint64_t at)
        : Device(below.sector_size(), below.sectors(), below.identity()), below_(below), at_(at) {}

   private:
    void do_read(std::uint64_t lba, ByteSpan out) const override { below_.read(lba, out); }
    void do_write(std::uint64_t lba, ByteView data) override {
      below_.write(lba, data);
      below_.write(at_, Bytes(sector_size(), 0x5A));
    }
    void do_flush() override { below_.flush(); }
    MemoryDevice& below_;
    std::uint64_t at_;
  };
  for (const VolumeKind kind : {VolumeKind::fat32, VolumeKind::ntfs}) {
    const auto disk = disk_with(kind, TableKind::mbr);
    const Partition p = read_table(*disk).layout.partitions[0];
    const Window window(*disk, p.range());
    const auto reader = open_volume(window, utc());
    SectorSet free{{0, p.sectors}};
    free.remove(reader->owned());
    REQUIRE_FALSE(free.empty());
    disk->write(p.start, Bytes(512));
    Careless device(*disk, p.start + free.ranges().back().first);
    support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    CHECK(support::code_of([&] {
            (void)run_job(device, repair_of(device), support::case_in_memory(folder / "case"),
                          quiet);
          }) == ErrorCode::not_compared);
  }
}

TEST_CASE("boot sector: the second one of NTFS is written again") {
  const auto sound = disk_with(VolumeKind::ntfs, TableKind::mbr);
  const Partition p = read_table(*sound).layout.partitions[0];
  const auto disk = sound->clone();
  disk->write(p.range().last(), support::noise(512, 4));
  const Survey survey = survey_disk(*disk, utc(), true);
  const Finding* f = find_code(survey.partitions[0].findings, Rule::ntfs_boot_copy);
  REQUIRE(f != nullptr);
  CHECK(f->repairable);
  support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  const Assessment a = repair_of(*disk);
  REQUIRE(a.steps.size() == 1);
  const JobResult result = run_job(*disk, a, support::case_in_memory(folder / "case"), quiet);
  CHECK(result.sound());
  CHECK(result.comparison.planned_count == 0);
  CHECK(disk->same_as(*sound));
}

namespace {

// Where the first four records of $MFT are, and their copies, in bytes of the disk; by the boot
// sector alone.
struct FirstRecords {
  std::uint64_t records = 0, copies = 0;
};
FirstRecords first_records(const Device& disk) {
  const std::uint64_t first = first_of(disk);
  const Bytes boot = disk.read(first);
  const std::uint64_t cluster = support::little(boot, 11, 2) * boot[13];
  const std::uint64_t from = first * disk.sector_size();
  return {from + support::little(boot, 48, 8) * cluster,
          from + support::little(boot, 56, 8) * cluster};
}

void garble(Device& disk, std::uint64_t byte, std::uint64_t length, std::uint64_t seed) {
  const std::uint64_t size = disk.sector_size();
  Bytes sector = disk.read(byte / size);
  const Bytes noise = support::noise(length, seed);
  std::copy(noise.begin(), noise.end(), sector.begin() + static_cast<std::ptrdiff_t>(byte % size));
  disk.write(byte / size, sector);
}

constexpr std::uint64_t record_bytes = 1024;

// The repair is done, and put back.
void mend_and_revert(MemoryDevice& disk, const MemoryDevice& sound, Rule code) {
  const auto broken = disk.clone();
  const Survey survey = survey_disk(disk, utc(), true);
  const Finding* f = find_code(survey.partitions[0].findings, code);
  REQUIRE(f != nullptr);
  CHECK(f->repairable);
  const Manifest recorded = manifest_of(sound);
  QuietProgress quiet;
  CHECK(verify_disk(recorded, disk, utc(), quiet).comparison.equal());
  support::Folder folder(support::Folder::Where::memory);
  const Assessment a = repair_of(disk);
  REQUIRE(a.in_reach());
  const JobResult result = run_job(disk, a, support::case_in_memory(folder / "case"), quiet);
  CHECK(result.sound());
  CHECK(result.comparison.planned_count == 0);
  CHECK_FALSE(has_errors(survey_disk(disk, utc(), true).partitions[0].findings));
  CHECK(disk.same_as(sound));
  CHECK(revert_case(disk, load_case(folder / "case"), {}, quiet).equal());
  CHECK(disk.same_as(*broken));
}

}  // namespace

TEST_CASE("first records: those of $MFT that are damaged are read from their copies, and mended") {
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    const auto sound = disk_with(VolumeKind::ntfs, TableKind::gpt, sector_size);
    const FirstRecords at = first_records(*sound);
    for (unsigned which = 1; which < 16; ++which) {
      // A piece of each of these records, or all of it.
      const auto disk = sound->clone();
      for (unsigned i = 0; i < 4; ++i) {
        if ((which >> i & 1) == 0) continue;
        const std::uint64_t record = at.records + i * record_bytes;
        const unsigned piece = (which + i) % 3;
        if (piece != 1) garble(*disk, record, 512, which);
        if (piece != 0) garble(*disk, record + 512, 512, which + 100);
      }
      CAPTURE(which);
      CAPTURE(sector_size);
      mend_and_revert(*disk, *sound, Rule::ntfs_first_records);
    }
  }
}

TEST_CASE("first records: copies that are not theirs are written again") {
  for (const std::uint32_t sector_size : {512u, 4096u}) {
    const auto sound = disk_with(VolumeKind::ntfs, TableKind::mbr, sector_size);
    const FirstRecords at = first_records(*sound);
    for (unsigned which = 1; which < 16; ++which) {
      const auto disk = sound->clone();
      for (unsigned i = 0; i < 4; ++i) {
        if ((which >> i & 1) == 0) continue;
        const std::uint64_t copy = at.copies + i * record_bytes;
        // Torn, or whole and older.
        if (which % 2 == 0) {
          garble(*disk, copy + 512, 512, which);
        } else {
          garble(*disk, copy + 16, 2, which);  // its sequence number
        }
      }
      CAPTURE(which);
      CAPTURE(sector_size);
      mend_and_revert(*disk, *sound, Rule::ntfs_mirror);
    }
  }
}

TEST_CASE("first records: some damaged here and others there, and where both are nothing is done") {
  const auto sound = disk_with(VolumeKind::ntfs, TableKind::mbr);
  const FirstRecords at = first_records(*sound);
  const auto disk = sound->clone();
  garble(*disk, at.records, 512, 1);
  garble(*disk, at.copies + 2 * record_bytes, 512, 2);
  CHECK(repair_of(*disk).steps.size() == 2);
  mend_and_revert(*disk, *sound, Rule::ntfs_first_records);

  garble(*disk, at.copies, 512, 3);
  const Survey survey = survey_disk(*disk, utc(), true);
  CHECK(has_errors(survey.partitions[0].findings));
  CHECK(repair_of(*disk).steps.empty());
  CHECK(support::code_of([&] { (void)OpenedVolume(*disk, 1, utc()); }) == ErrorCode::damaged);
}

TEST_CASE("first records: one that the device doesn't give is read from its copy, and not mended") {
  const auto disk = disk_with(VolumeKind::ntfs, TableKind::mbr);
  const FirstRecords at = first_records(*disk);
  const Manifest recorded = manifest_of(*disk);
  FaultPlan plan;
  plan.bad_reads.add({at.records / 512, 2});
  const FaultDevice bad(*disk, plan);
  const Survey survey = survey_disk(bad, utc(), true);
  const Finding* f = find_code(survey.partitions[0].findings, Rule::ntfs_first_records);
  REQUIRE(f != nullptr);
  CHECK_FALSE(f->repairable);
  CHECK(repair_of(bad).steps.empty());
  QuietProgress quiet;
  CHECK(verify_disk(recorded, bad, utc(), quiet).comparison.equal());
}

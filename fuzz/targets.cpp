// Every parser that takes what a disk or a file holds.

#include <algorithm>

#include <nlohmann/json.hpp>
#include <xxhash.h>

#include "assess/json.h"
#include "fuzz.h"
#include "ntfs/fixup.h"
#include "ntfs/lznt1.h"
#include "ntfs/runs.h"

namespace fuzz {

using namespace nuvrat;

namespace {

Bytes bytes_of(std::string_view text) {
  return {text.begin(), text.end()};
}

std::string text_of(ByteView bytes) {
  return {bytes.begin(), bytes.end()};
}

// Tables: MBR, EBR chain, GPT. A layout that reads without errors can be written again.
void table(ByteView input) {
  const auto disk = disk_from(input);
  if (!disk) return;
  const TableReading reading = read_table(*disk);
  (void)survey_text(survey_disk(*disk, utc()), {});
  expect_answer([&] {
    if (reading.layout.kind == TableKind::gpt) (void)build_gpt(reading.layout);
    if (reading.layout.kind == TableKind::mbr) (void)build_mbr(reading.layout);
  });
}

std::vector<Bytes> table_seeds() {
  std::vector<Bytes> out;
  for (const std::uint32_t size : {512u, 4096u}) {
    for (const TableKind kind : {TableKind::mbr, TableKind::gpt}) {
      MemoryDevice disk(1u << 16, size);
      Layout layout;
      layout.kind = kind;
      layout.sector_size = size;
      layout.disk_sectors = disk.sectors();
      Random random(3);
      Partition p;
      p.number = 1;
      p.start = 2048;
      p.sectors = 4096;
      p.type = std::uint8_t{0x0C};
      if (kind == TableKind::gpt) {
        p.role = Role::gpt;
        p.type = basic_data_guid();
        p.unique_id = layout.disk_guid = remember_type(0x0C, random);
        layout.first_usable = gpt_first_usable(size);
        layout.last_usable = disk.sectors() - gpt_array_sectors(size) - 2;
        layout.partitions = {p};
      } else {
        Partition extended;
        extended.number = 2;
        extended.role = Role::extended;
        extended.start = 8192;
        extended.sectors = 16384;
        extended.type = std::uint8_t{0x0F};
        layout.partitions = {p, extended};
        for (unsigned i = 0; i < 2; ++i) {
          Partition logical = p;
          logical.number = 5 + i;
          logical.role = Role::logical;
          logical.start = 8200 + i * 5000;
          logical.table_sector = logical.start - 8 + i;
          if (i == 0) logical.table_sector = extended.start;
          layout.partitions.push_back(logical);
        }
      }
      write_new_table(disk, layout);
      out.push_back(script_of(disk, true));
    }
  }
  return out;
}

void volume(ByteView input) {
  const auto disk = disk_from(input);
  if (disk) read_everything(*disk);
}

std::vector<Bytes> fat_seeds() {
  std::vector<Bytes> out;
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32})
    out.push_back(script_of(*fat_volume(kind), false));
  return out;
}

std::vector<Bytes> ntfs_seeds() {
  return {script_of(*ntfs_volume(), true)};
}

// A good NTFS volume of which one part is the input: record, index block, boot sector.
const MemoryDevice& good_ntfs() {
  static const std::unique_ptr<MemoryDevice> disk = ntfs_volume();
  return *disk;
}

std::uint64_t mft_of(const MemoryDevice& disk) {
  const Bytes boot = disk.read(0);
  std::uint64_t lcn = 0;
  for (unsigned i = 8; i > 0; --i) lcn = lcn << 8 | boot[0x30 + i - 1];
  return lcn * boot[13];
}

// First byte: which record; the rest is laid over it.
void ntfs_record(ByteView input) {
  if (input.empty()) return;
  const auto disk = good_ntfs().clone();
  const std::uint64_t lba = mft_of(*disk) + std::uint64_t{input[0]} % 72 * 2;
  Bytes record = disk->read(lba, 2);
  const std::size_t n = std::min<std::size_t>(input.size() - 1, record.size());
  std::copy_n(input.begin() + 1, n, record.begin());
  mend_record(record);
  disk->write(lba, record);
  read_everything(*disk);
}

std::vector<Bytes> ntfs_record_seeds() {
  std::vector<Bytes> out;
  const MemoryDevice& disk = good_ntfs();
  for (const unsigned which : {0u, 3u, 5u, 6u, 9u, 64u, 65u, 66u, 67u}) {
    Bytes seed{static_cast<std::uint8_t>(which)};
    const Bytes record = disk.read(mft_of(disk) + which * 2, 2);
    seed.insert(seed.end(), record.begin(), record.end());
    out.push_back(seed);
  }
  return out;
}

std::size_t number16(ByteView bytes, std::size_t at) {
  return bytes[at] + std::size_t{bytes[at + 1]} * 256;
}

// Sectors that hold more than one byte over and over: the structures.
std::vector<std::uint64_t> structures_of(const MemoryDevice& disk) {
  std::vector<std::uint64_t> out;
  for (std::uint64_t lba = disk.next_data(0); lba < disk.sectors(); lba = disk.next_data(lba + 1)) {
    const Bytes sector = disk.read(lba);
    const bool plain = std::all_of(sector.begin(), sector.end(),
                                   [&sector](std::uint8_t b) { return b == sector[0]; });
    if (!plain) out.push_back(lba);
  }
  return out;
}

// Pieces of five bytes: which of the sectors (u16), offset in it (u16), value; so that a mutation
// is one small damage somewhere in the structures.
void damage(MemoryDevice& disk, const std::vector<std::uint64_t>& sectors, ByteView pieces) {
  for (std::size_t at = 0; at + 5 <= pieces.size() && at < 500; at += 5) {
    const std::uint64_t lba = sectors[number16(pieces, at) % sectors.size()];
    Bytes sector = disk.read(lba);
    sector[number16(pieces, at + 2) % sector.size()] = pieces[at + 4];
    disk.write(lba, sector);
  }
}

void ntfs_damage(ByteView input) {
  static const std::vector<std::uint64_t> sectors = structures_of(good_ntfs());
  const auto disk = good_ntfs().clone();
  damage(*disk, sectors, input);
  read_everything(*disk);
}

std::vector<Bytes> damage_seeds() {
  return {{1, 0, 20, 0, 3}, {0, 0, 13, 0, 2, 9, 0, 60, 0, 255, 30, 0, 4, 1, 128}};
}

Bytes encoded(const Runs& list) {
  Bytes out;
  std::uint64_t previous = 0;
  for (const Run& run : list) encode_run(run, previous, out);
  out.push_back(0);
  if (out.size() != encoded_bytes(list)) broken("a runlist has another length than it was to have");
  return out;
}

void runs(ByteView input) {
  Runs out;
  expect_answer([&] {
    decode_runs(input, 1u << 20, out);
    std::uint64_t total = 0;
    for (const Run& r : out) {
      if (r.lcn != Run::hole && (r.lcn >= 1u << 20 || r.count > (1u << 20) - r.lcn))
        broken("a run leaves the volume");
      if (r.count == 0 || total + r.count < total) broken("a run of no length, or too many");
      total += r.count;
    }
    Runs again;  // what was read can be written, and reads as the same
    decode_runs(encoded(out), 1u << 20, again);
    if (clusters_in(again) != clusters_in(out)) broken("runs differ after a round trip");
  });
}

std::vector<Bytes> runs_seeds() {
  return {encoded({{100, 5}, {90, 1}, {Run::hole, 16}, {5000, 300}}), {0x11, 1, 1, 0}};
}

void lznt1(ByteView input) {
  Bytes out(65536);
  (void)unpack_lznt1(input, out);
}

std::vector<Bytes> lznt1_seeds() {
  return {{0x03, 0xB0, 0x02, 0x00, 0xFC, 0x0F, 0x05, 0xB0, 0x08, 'a', 'b', 'c', 0xFA, 0x2F}};
}

void fixup(ByteView input) {
  Bytes record(input.begin(), input.end());
  if (!unprotect(record)) return;
}

std::vector<Bytes> fixup_seeds() {
  return {good_ntfs().read(mft_of(good_ntfs()), 2)};
}

// Checksums put right, or nothing behind the first damaged record would ever be read
// (docs/formats/undo-journal.md).
void mend_journal(Bytes& file) {
  constexpr std::size_t header = 32, head = 40;
  if (file.size() < header) return;
  const auto put = [&file](std::size_t at, std::uint64_t value, unsigned width) {
    for (unsigned i = 0; i < width; ++i) file[at + i] = static_cast<std::uint8_t>(value >> 8 * i);
  };
  put(28, crc32(ByteView(file).first(28)), 4);
  for (std::size_t at = header; at + head <= file.size();) {
    std::uint64_t payload = 0;
    for (unsigned i = 8; i > 0; --i) payload = payload << 8 | file[at + 24 + i - 1];
    payload = std::min<std::uint64_t>(payload, file.size() - at - head);
    put(at, 0x43455221, 4);
    put(at + 24, payload, 8);
    put(at + 32, 0, 8);
    put(at + 32, XXH3_64bits(file.data() + at, head + payload), 8);
    at += head + payload;
  }
}

void journal(ByteView input) {
  Bytes mended(input.begin(), input.end());
  if (!input.empty() && input.back() % 2 == 0) mend_journal(mended);
  const TempFile file(mended);
  expect_answer([&] {
    const Journal journal = Journal::open(file.path());
    (void)journal.writes();
    (void)journal.steps_done();
    const MemoryDevice disk(4096, 512);
    (void)journal.foreign_sectors(disk, false);
    (void)journal.before_switch(0, disk);
    (void)journal.bytes_to_put_back();
  });
}

std::vector<Bytes> journal_seeds() {
  auto disk = mbr_disk();
  Random random(1);
  const Assessment plan = assess(*disk, {parse_goal("table=gpt")}, utc(), random);
  Bytes out;
  (void)convert(*disk, plan, [&](const std::filesystem::path& folder) {
    const auto file = folder / "undo.journal";
    std::FILE* in = std::fopen(file.c_str(), "rb");
    out.resize(std::filesystem::file_size(file));
    if (std::fread(out.data(), 1, out.size(), in) != out.size()) broken("the seed");
    std::fclose(in);
  });
  return {out};
}

void manifest(ByteView input) {
  const TempFile file(input);
  expect_answer([&] {
    const Manifest m = load_manifest(file.path());
    const Comparison c = compare(m, m);
    if (!c.equal()) broken("a manifest differs from itself");
    const TempFile copy({});
    save_manifest(m, copy.path());
    if (load_manifest(copy.path()).seal() != m.seal()) broken("a manifest's copy differs");
  });
}

std::vector<Bytes> manifest_seeds() {
  auto disk = mbr_disk();
  QuietProgress quiet;
  const TempFile file({});
  save_manifest(take_manifest(*disk, utc(), quiet), file.path());
  Bytes out(std::filesystem::file_size(file.path()));
  std::FILE* in = std::fopen(file.path().c_str(), "rb");
  if (std::fread(out.data(), 1, out.size(), in) != out.size()) broken("the seed");
  std::fclose(in);
  return {out};
}

// What a case keeps, and what a resume makes of it: rewrites on a disk of another shape.
void assessment(ByteView input) {
  expect_answer([&] {
    const auto json = nlohmann::json::parse(input.begin(), input.end(), nullptr, false);
    if (json.is_discarded()) return;
    const Assessment a = assessment_from_json(json);
    (void)assessment_text(a, {});
    (void)assessment_json(a);
    (void)next_steps(a);
    for (const Step& step : a.steps) {
      expect_answer([&] {
        MemoryDevice disk(1u << 14, 512);
        Overlay overlay(disk);
        const auto rewrite = make_rewrite(step, overlay);
        (void)Engine::inspect(*rewrite, overlay, owned_for(step));
      });
    }
  });
}

std::vector<Bytes> assessment_seeds() {
  std::vector<Bytes> out;
  Random random(1);
  const auto add = [&](Device& disk, const char* goal) {
    const auto json =
        nlohmann::json::parse(assessment_json(assess(disk, {parse_goal(goal)}, utc(), random)));
    out.push_back(bytes_of(json.dump()));
  };
  add(*mbr_disk(), "table=gpt");
  add(*gpt_disk(), "table=mbr");
  add(*gpt_disk(), "p1.name=x");
  add(*fat_volume(VolumeKind::fat16), "volume=ntfs");
  return out;
}

void words(ByteView input) {
  expect_answer([&] {
    const Goal goal = parse_goal(text_of(input));
    if (!(parse_goal(goal.text()) == goal)) broken("a goal reads as another one");
  });
  expect_answer([&] { (void)parse_fault_plan(text_of(input)); });
  expect_answer([&] { (void)parse_time(text_of(input)); });
  expect_answer([&] { (void)Guid(text_of(input)); });
  const std::string shown = printable(text_of(input));
  if (display_width(fit(shown, 20, true)) != 20) broken("a text does not fit its columns");
}

std::vector<Bytes> words_seeds() {
  return {bytes_of("table=gpt"),
          bytes_of("p12.active=yes"),
          bytes_of("p1.name=Bøje 4"),
          bytes_of("cut=12,keep=some,seed=3,bad-read=100+8"),
          bytes_of("2031-03-04T05:06:07.0000000Z"),
          bytes_of("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
          bytes_of("潮位計 42")};
}

// Damage to a good disk, then everything the tool would do with it. First byte: which disk; then
// pieces as in ntfs_damage. Whatever a rewrite does: what could be read before can be read after,
// and the way back leads to the very disk.
void rewrites(ByteView input) {
  static const std::unique_ptr<MemoryDevice> good[] = {
      mbr_disk(), gpt_disk(), fat_volume(VolumeKind::fat16), fat_volume(VolumeKind::fat32)};
  if (input.size() < 2) return;
  const MemoryDevice& base = *good[input[0] % 4];
  const auto disk = base.clone();
  damage(*disk, structures_of(base), input.subspan(2));
  read_everything(*disk);
  Random random(1);
  const auto attempt = [&](const Assessment& plan) {
    if (!plan.in_reach() || plan.steps.empty()) return;
    const auto work = disk->clone();
    QuietProgress quiet;
    expect_answer([&] {
      const JobResult result = convert(*work, plan, [&](const std::filesystem::path& folder) {
        (void)report_html(read_record(folder, work.get()));
        (void)revert_case(*work, load_case(folder), false, quiet);
      });
      if (!result.sound()) {
        std::string what = plan.steps[0].name() + " lost something";
        for (const Difference& d : result.comparison.differences)
          what += "; " + std::string(name_of(d.kind)) + " " + d.path + " " + d.text;
        for (const Finding& f : result.findings_after) what += "; " + f.code + " " + f.text;
        broken(what);
      }
    });
    if (!work->same_as(*disk)) broken(plan.steps[0].name() + " or its revert changed the disk");
  };
  expect_answer([&] {
    static const char* const goals[] = {"table=gpt",  "table=mbr",  "p1=ntfs",       "volume=ntfs",
                                        "p1=logical", "p2=logical", "p1.active=yes", "p2.name=x"};
    attempt(assess(*disk, {parse_goal(goals[input[1] % 8])}, utc(), random));
  });
  expect_answer(
      [&] { attempt(assess_repair(*disk, utc(), static_cast<Unowned>(input[1] / 64 % 3))); });
}

std::vector<Bytes> rewrites_seeds() {
  return {{0, 0, 0, 0, 70, 1, 6},
          {1, 1, 1, 0, 30, 0, 1},
          {2, 3, 3, 0, 9, 0, 7},
          {3, 67, 2, 0, 4, 0, 99},
          {0, 5, 5, 0, 2, 0, 1},
          {2, 128, 1, 0, 12, 0, 15},
          {1, 7},
          {0, 2},
          {0, 6, 9, 0, 1, 0, 3}};
}

}  // namespace

const std::vector<Target>& targets() {
  static const std::vector<Target> all = {
      {"table", table, table_seeds},
      {"fat", volume, fat_seeds},
      {"ntfs", volume, ntfs_seeds},
      {"ntfs_record", ntfs_record, ntfs_record_seeds},
      {"ntfs_damage", ntfs_damage, damage_seeds},
      {"runs", runs, runs_seeds},
      {"lznt1", lznt1, lznt1_seeds},
      {"fixup", fixup, fixup_seeds},
      {"journal", journal, journal_seeds},
      {"manifest", manifest, manifest_seeds},
      {"assessment", assessment, assessment_seeds},
      {"words", words, words_seeds},
      {"rewrites", rewrites, rewrites_seeds},
  };
  return all;
}

}  // namespace fuzz

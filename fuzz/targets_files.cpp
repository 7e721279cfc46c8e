// Files beside the disk: journals, manifests, assessments, whole cases; and words.

#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>

#include <nlohmann/json.hpp>
#include <xxhash.h>

#include <nuvrat/columns.h>
#include <nuvrat/fault.h>
#include <nuvrat/rewrite.h>

#include "fuzz.h"
#include "json/case_plan.h"

namespace fuzz {

using namespace nuvrat;

namespace {

Bytes bytes_of(std::string_view text) {
  return {text.begin(), text.end()};
}

std::string text_of(ByteView bytes) {
  return {bytes.begin(), bytes.end()};
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
    const MemoryDevice disk(4096, 512, {8, 0});
    (void)journal.strange_sectors(disk, false);
    (void)journal.before_switch(0, disk);
    (void)journal.torn_sector(disk);
    (void)journal.recognises(disk);
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

// A plan as one input: its text, a zero, its blobs. The checksums of blobs are put right.
json::CasePlan plan_from(ByteView input) {
  const auto zero = std::find(input.begin(), input.end(), 0);
  json::CasePlan out;
  if (zero != input.end()) out.blobs.assign(std::next(zero), input.end());
  auto json = nlohmann::json::parse(input.begin(), zero, nullptr, false);
  std::vector<nlohmann::json*> open{&json};
  while (!open.empty()) {
    nlohmann::json& here = *open.back();
    open.pop_back();
    if (here.is_object() && here.contains("crc32") && here["at"].is_number_unsigned() &&
        here["bytes"].is_number_unsigned()) {
      const std::uint64_t at = here["at"], bytes = here["bytes"];
      if (at <= out.blobs.size() && bytes <= out.blobs.size() - at)
        here["crc32"] = crc32(ByteView(out.blobs).subspan(at, bytes));
    }
    if (here.is_structured()) {
      for (auto& item : here) open.push_back(&item);
    }
  }
  out.text = json.is_discarded()
                 ? text_of(input)
                 : json.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
  return out;
}

// What a case keeps, and what a resume makes of it: rewrites on a disk of another shape.
void assessment(ByteView input) {
  expect_answer([&] {
    json::CaseHead head;
    const Assessment a = json::read_plan(plan_from(input), head);
    (void)assessment_text(a, {});
    (void)assessment_json(a);
    (void)next_steps(a);
    for (const Step& step : a.steps) {
      expect_answer([&] {
        MemoryDevice disk(1u << 14, 512);
        Overlay overlay(disk);
        const auto rewrite = make_rewrite(step, overlay);
        (void)Engine::inspect(*rewrite, overlay, OwnedBy(step));
      });
    }
  });
}

std::vector<Bytes> assessment_seeds() {
  std::vector<Bytes> out;
  Random random(1);
  const auto add = [&](Device& disk, const char* goal) {
    const json::CasePlan plan =
        json::write_plan(assess(disk, {parse_goal(goal)}, utc(), random), {});
    out.push_back(bytes_of(plan.text));
    out.back().push_back(0);
    out.back().insert(out.back().end(), plan.blobs.begin(), plan.blobs.end());
  };
  add(*mbr_disk(), "table=gpt");
  add(*gpt_disk(), "table=mbr");
  add(*gpt_disk(), "p1.name=x");
  add(*fat_volume(VolumeKind::fat16), "volume=ntfs");
  return out;
}

// A case of a job that is done, file by file, and the disk before and after it.
struct GoodCase {
  GoodCase() : before(mbr_disk()), after(before->clone()) {
    Random random(1);
    const Assessment plan =
        assess(*before, {parse_goal("table=gpt"), parse_goal("p1=ntfs")}, utc(), random);
    const auto take = [this](const std::filesystem::path& folder) {
      for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
        if (!entry.is_regular_file()) continue;
        std::ifstream in(entry.path(), std::ios::binary);
        files.emplace_back(std::filesystem::relative(entry.path(), folder),
                           Bytes{std::istreambuf_iterator<char>(in), {}});
      }
    };
    if (!convert(*after, plan, take).sound()) broken("the seed");
    std::sort(files.begin(), files.end());
  }
  std::unique_ptr<MemoryDevice> before, after;
  std::vector<std::pair<std::filesystem::path, Bytes>> files;
};

// Damage to the files of a case, then all that is done with cases. First byte: which file; second:
// 0 to 63 bytes of it become others (pieces: offset u24, value), 64 it is missing, 65 it is the
// rest of the input, else it ends early.
void case_files(ByteView input) {
  static const GoodCase good;
  if (input.size() < 2) return;
  const TempFile name({});
  std::filesystem::remove(name.path());
  std::filesystem::create_directory(name.path());
  std::filesystem::permissions(name.path(), std::filesystem::perms::owner_all);
  for (std::size_t i = 0; i < good.files.size(); ++i) {
    Bytes bytes = good.files[i].second;
    if (i == input[0] % good.files.size()) {
      if (input[1] == 64) continue;
      if (input[1] == 65) {
        bytes.assign(input.begin() + 2, input.end());
      } else if (input[1] > 65) {
        bytes.resize(bytes.size() * (input[1] - 66) / 190);
      } else {
        for (std::size_t at = 2; at + 4 <= input.size() && !bytes.empty(); at += 4)
          bytes[little(input, at, 3) % bytes.size()] = input[at + 3];
        if (good.files[i].first == "undo.journal" && input[1] % 2 == 1) mend_journal(bytes);
      }
    }
    const auto path = name.path() / good.files[i].first;
    std::filesystem::create_directories(path.parent_path());
    std::filesystem::permissions(path.parent_path(), std::filesystem::perms::owner_all);
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()),
               static_cast<std::streamsize>(bytes.size()));
    std::filesystem::permissions(
        path, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write);
  }
  QuietProgress quiet;
  expect_answer([&] {
    const CaseRecord record = read_record(name.path(), good.after.get());
    (void)report_html(record);
    (void)report_text(record, name.path(), {});
    (void)report_json(record);
  });
  expect_answer([&] {
    const CaseFile job = load_case(name.path());
    (void)case_text(job, stage_of(job, *good.after), "", {});
  });
  // Nothing is written by a refusal, and a way back leads to the disk as it was.
  const auto disk = good.after->clone();
  bool back = false;
  expect_answer([&] { back = revert_case(*disk, load_case(name.path()), {}, quiet).equal(); });
  if (!disk->same_as(back ? *good.before : *good.after))
    broken(back ? "a revert left another disk" : "a refused revert wrote");
  const auto done = good.after->clone();
  expect_answer([&] { (void)resume_case(*done, load_case(name.path()), quiet); });
  if (!back && !done->same_as(*good.after)) broken("a resume of what is done wrote");
}

std::vector<Bytes> case_files_seeds() {
  std::vector<Bytes> out;
  for (std::uint8_t file = 0; file < 8; ++file) {
    out.push_back({file, 64});
    out.push_back({file, 65, '{', '}'});
    out.push_back({file, 160});
    out.push_back({file, 1, 200, 0, 0, '9'});
  }
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

}  // namespace

std::vector<Target> file_targets() {
  return {{"journal", journal, journal_seeds},
          {"manifest", manifest, manifest_seeds},
          {"assessment", assessment, assessment_seeds},
          {"case_files", case_files, case_files_seeds},
          {"words", words, words_seeds}};
}

}  // namespace fuzz

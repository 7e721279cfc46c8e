// Volumes that other hands laid out: found sound, read to the byte, rewritten, and put back.

#include "foreign_ntfs.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

constexpr std::uint64_t foreign_start = 16384, foreign_sectors = 262144;

// The volume as the one partition of an MBR, with room on both sides.
foreign::Volume in_a_table(std::uint32_t cluster) {
  foreign::Volume out = foreign::ntfs(foreign_sectors, cluster, foreign_start);
  auto disk = support::disk(2 * foreign_sectors);
  for (std::uint64_t lba = out.disk->next_data(0); lba < out.disk->sectors();
       lba = out.disk->next_data(lba + 1))
    disk->write(lba, out.disk->read(lba));
  Bytes mbr(512);
  support::put(mbr, 440, 0x0DDBA115, 4);
  support::put_entry(mbr, 0, 0x07, foreign_start, foreign_sectors);
  disk->write(0, mbr);
  out.disk = std::move(disk);
  return out;
}

void must_hold(const Device& disk, const std::map<std::string, Bytes>& files) {
  QuietProgress quiet;
  const Manifest m = take_manifest(disk, utc(), quiet);
  REQUIRE(m.volumes.size() == 1);
  const ManifestVolume& v = m.volumes[0];
  CHECK(m.whole());
  CHECK(m.files() == files.size());
  for (const auto& [path, contents] : files) {
    CAPTURE(path);
    const FileTree::Id id = v.tree.find(path);
    REQUIRE(id != FileTree::none);
    CHECK(v.tree.bytes(id) == contents.size());
    CHECK(v.digests[id] == Sha256::of(contents));
  }
}

}  // namespace

TEST_CASE("foreign: an NTFS volume that other hands laid out is sound, and read to the byte") {
  for (const std::uint32_t cluster : {512u, 1024u, 4096u, 65536u}) {
    CAPTURE(cluster);
    const foreign::Volume v = in_a_table(cluster);
    const Findings findings = survey_disk(*v.disk, utc(), true).all_findings();
    for (const Finding& f : findings) {
      MESSAGE(f.code << ": " << f.text << " " << f.place.text());
      CHECK(f.severity == Severity::note);
    }
    must_hold(*v.disk, v.files);
  }
}

TEST_CASE("foreign: rewrites of an NTFS volume that other hands laid out") {
  const std::vector<std::vector<std::string>> all_goals = {
      {"table=gpt"},
      {"p1.label=Pegel"},
      {"p1.size=max"},
      {"p1.size=-32MiB"},
      {"p1.front=max"},
      {"p1.front=max", "p1.size=max", "table=gpt"},
      {"p1.size=min"},
      {"p1=fat16"},
      {"p1=fat32", "p1.cluster=512"},
      {"p1=fat16", "p1.size=-16MiB"}};
  for (const std::uint32_t cluster : {512u, 1024u, 4096u, 65536u}) {
    for (const auto& goals : all_goals) {
      CAPTURE(cluster);
      std::string words;
      for (const std::string& goal : goals) words += goal + " ";
      CAPTURE(words);
      const foreign::Volume v = in_a_table(cluster);
      const support::Folder folder(support::Folder::Where::memory);
      const auto original = v.disk->clone();
      std::vector<Goal> parsed;
      for (const std::string& goal : goals) parsed.push_back(parse_goal(goal));
      Random random(1);
      QuietProgress quiet;
      const Assessment a = assess(*v.disk, parsed, utc(), random);
      for (const Obstacle& o : a.obstacles) MESSAGE(o.code << ": " << o.text);
      if (!a.in_reach()) {
        CHECK(false);
        continue;
      }
      const JobResult result = run_job(*v.disk, a, support::case_in_memory(folder / "case"), quiet);
      for (const Difference& d : result.comparison.differences) MESSAGE(d.path << ": " << d.text);
      for (const Finding& f : result.findings_after) MESSAGE(f.code << ": " << f.text);
      CHECK(result.sound());
      CHECK(result.findings_after.empty());
      // Names are the same to whoever takes another code page for the right one.
      ReadOptions other = utc();
      other.codepage = 866;
      CHECK(take_manifest(*v.disk, other, quiet).seal() == result.comparison.seal_after);
      (void)revert_case(*v.disk, load_case(folder / "case"), {}, quiet);
      CHECK(v.disk->same_as(*original));
    }
  }
}

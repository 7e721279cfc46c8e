// One bad sector, whichever it is: what doesn't depend on it is read, and what does is named.

#include <algorithm>
#include <map>
#include <set>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

QuietProgress silent;

// The sectors that are read when every folder is, and nothing else.
std::vector<std::uint64_t> structures(MemoryDevice& disk) {
  support::ReadNotes notes(disk);
  (void)take_manifest(notes, utc(), silent, {.proof = Proof::places});
  (void)survey_disk(notes, utc(), true);
  std::vector<std::uint64_t> out;
  for (const auto& [lba, times] : notes.reads) {
    if (!all_zero(disk.read(lba))) out.push_back(lba);
  }
  return out;
}

bool is_left_out(const Manifest& m, const Difference& d) {
  return std::any_of(m.volumes.begin(), m.volumes.end(), [&d](const ManifestVolume& v) {
    return v.number == d.number &&
           std::any_of(v.left_out.begin(), v.left_out.end(),
                       [&d](const LeftOut& l) { return d.path.starts_with(l.path); });
  });
}

}  // namespace

TEST_CASE(
    "bad sector: whichever of the structures it is, the rest is read, and what isn't is said") {
  std::set<Rule> said;
  for (const char* name : {"MBR to GPT, 512", "NTFS to the front", "NTFS to FAT32",
                           "GPT to MBR, 4096", "FAT to NTFS and MBR to GPT, 4096"}) {
    const scenarios::Scenario& scenario = scenarios::named(name);
    CAPTURE(scenario.name);
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    const Manifest whole = take_manifest(disk, utc(), silent);
    unsigned all = 0, some = 0, none = 0;
    for (const std::uint64_t lba : structures(disk)) {
      CAPTURE(lba);
      FaultPlan plan;
      plan.bad_reads.add({lba, 1});
      const auto copy = disk.clone();
      const FaultDevice device(*copy, plan);
      const Survey survey = survey_disk(device, utc(), true);
      for (const Finding& f : survey.all_findings()) said.insert(f.code);
      for (const SurveyedPartition& s : survey.partitions) {
        if (!s.volume) continue;
        const Window window(device, s.partition.range());
        const auto reader = open_volume(window, utc());
        (void)reader->tree();
        for (const Finding& f : reader->findings()) said.insert(f.code);
      }
      const Manifest m = take_manifest(device, utc(), silent);
      if (m.whole()) {
        CHECK(m.files() == whole.files());
        CHECK(m.seal() == whole.seal());
        ++all;
        continue;
      }
      // What there is is as recorded, and what isn't is no difference. Only a name may be another
      // one: FAT's long ones go on from sector to sector.
      for (const Difference& d : verify_disk(m, disk, utc(), silent).comparison.differences) {
        CHECK_MESSAGE(is_left_out(m, d), d.path << ": " << d.text);
      }
      CHECK(m.files() <= whole.files());
      (m.files() == 0 ? none : some) += 1;
    }
    MESSAGE(scenario.name << ": of " << all + some + none << " sectors " << all << " hide nothing, "
                          << some << " some of it, " << none << " all");
    CHECK(none <= 12);
  }
  for (const Rule rule : {Rule::table_unreadable, Rule::fat_unreadable, Rule::fat_folder_unreadable,
                          Rule::ntfs_record_unreadable, Rule::ntfs_unreadable})
    CHECK_MESSAGE(said.contains(rule), std::string(name_of(rule)));
}

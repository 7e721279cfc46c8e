// Going back: what a job wrote is put back from its journal, and compared.

#include <algorithm>
#include <filesystem>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/text.h>

#include "base/descriptor.h"
#include "disk/known_manifest.h"
#include "job/case.h"
#include "job/recover.h"
#include "job/steps.h"

namespace nuvrat::job {
namespace {

// The first few of them, for people.
std::string some_of(const Comparison& changes) {
  std::string text;
  for (const Difference& d : changes.differences) {
    if (text.size() > 300) return text + " …";
    text +=
        fmt::format("{}p{}/{} ({})", text.empty() ? "" : ", ", d.number, d.path, name_of(d.kind));
  }
  return text;
}

// What no file shows: second copies, and what only a check reads.
void require_sound_volumes(const Device& back, const CaseFile& job) {
  for (const SurveyedPartition& s : survey_disk(back, job.options.read, true).partitions) {
    for (const Finding& f : s.findings) {
      if (f.severity == Severity::note || find_code(job.assessment.findings, f.code) != nullptr)
        continue;
      throw refused(
          fmt::format("the disk has been written to since, and on the way back {} would be "
                      "damaged: {}",
                      part_name(s.partition.number), f.text),
          "Nothing was written. To go back all the same, pass --discard-later-changes; every file "
          "is there, and 'nuvrat check' says what can be mended");
    }
  }
}

bool same_volume(const ManifestVolume& a, const ManifestVolume& b) {
  Manifest first, second;
  first.volumes.push_back(a);
  second.volumes.push_back(b);
  return compare(first, second, AccessTimes::compared).equal();
}

// The files of a volume whose contents the job's own comparison found as they are now.
void take_contents(const ManifestVolume& after, const ManifestVolume& now, ManifestVolume& before) {
  before.tree.walk([&](FileTree::Id id) {
    if (before.tree.is_directory(id) || before.is_placed(id)) return;
    const std::string path = before.tree.path(id);
    const FileTree::Id there = now.tree.find(path), then = after.tree.find(path);
    if (there == FileTree::none || then == FileTree::none) return;
    if (after.digests[then] == now.digests[there]) before.digests[id] = now.digests[there];
  });
}

// One wrong read while recording makes a record that nothing ever agrees with. What was found by
// the job's own comparison as it is now was not written since: it takes the record's place.
Manifest amended(Manifest before, const Manifest& after, const Manifest& now,
                 const Expectation& expectation) {
  const auto at = [](const auto& parts, std::uint64_t start) {
    const auto it = std::find_if(parts.begin(), parts.end(),
                                 [start](const auto& part) { return part.start == start; });
    return it == parts.end() ? nullptr : &*it;
  };
  for (ManifestVolume& v : before.volumes) {
    const auto* then = at(after.volumes, expectation.start_after(v.start).value_or(v.start));
    const auto* there = at(now.volumes, v.start);
    if (then == nullptr || there == nullptr) continue;
    if (then->info.kind == there->info.kind && same_volume(*then, *there)) {
      v = *there;
    } else {
      take_contents(*then, *there, v);
    }
  }
  for (ManifestRange& r : before.ranges) {
    const auto* then = at(after.ranges, expectation.start_after(r.start).value_or(r.start));
    const auto* there = at(now.ranges, r.start);
    if (then != nullptr && there != nullptr && then->digest == there->digest)
      r.digest = there->digest;
  }
  return before;
}

// What was recorded before the job against this disk. Where the case's record is missing or damaged
// that is said; the way back doesn't need it.
std::optional<Manifest> compare_with_recorded(const Device& disk, const CaseFile& job,
                                              const Case& folder, Progress& progress,
                                              RevertResult& out) {
  std::optional<Manifest> before;
  try {
    before = load_manifest(folder.file("before.manifest"));
  } catch (const Error& e) {
    out.not_compared = folder.has("before.manifest")
                           ? "the case's record of the files is damaged: " + e.message()
                           : "the case holds no record of the files";
    return std::nullopt;
  }
  tree::Recording recorded = tree::Recording::put_aside(std::move(*before), folder.file(""));
  Verification found = disk::verify_recorded(std::move(recorded), disk, job.options.read, progress);
  out.compared = std::move(found.comparison);
  return std::move(found.now);
}

// Nothing was written since the job compared what it had left, as far as its own record tells.
bool as_job_left_it(const Manifest& now, const CaseFile& job, const Case& folder) {
  try {
    const Manifest before =
        amended(load_manifest(folder.file("before.manifest")),
                load_manifest(folder.file("after.manifest")), now, job.assessment.expectation());
    return compare(before, now, AccessTimes::compared).equal();
  } catch (const Error&) {
    return false;  // no record, or a damaged one
  }
}

// The way back, played through: nothing is written unless every file will be there again. Sectors
// that the job gave up without writing them (old places of what it moved, an old FAT) are
// in no journal, and may have been used since: only reading tells. What the job made
// anew is in the journal, which was compared with the disk before.
void compare_rehearsed_back(const Device& back, const CaseFile& job, const Case& folder,
                            Progress& progress, RevertResult& result) {
  const std::optional<Manifest> now = compare_with_recorded(back, job, folder, progress, result);
  const std::optional<Comparison>& out = result.compared;
  if (!out || out->equal() || as_job_left_it(*now, job, folder)) {
    require_sound_volumes(back, job);
    return;
  }
  throw refused(
      fmt::format("the disk has been written to since, and on the way back {} as recorded "
                  "before the rewrite: {}",
                  plural(out->count, "thing would not be", "things would not be"), some_of(*out)),
      "Nothing was written. To go back all the same, pass --discard-later-changes");
}

// The way back is done, whatever comes of this. A disk between two states should not have been
// used, and leaving it there would be worse, so it is read only now.
void compare_put_back(const Device& device, const CaseFile& job, const Case& folder,
                      Progress& progress, RevertResult& out) {
  try {
    device.forget({0, device.sectors()});
    (void)compare_with_recorded(device, job, folder, progress, out);
  } catch (const std::exception& cause) {
    out.not_compared = as_error(cause).message();
  }
}

// "FAT16" for "fat16"; what a volume is in words as it stands.
std::string words_of_kind(const std::string& kind) {
  const VolumeKind known = kind_named(kind);
  return known == VolumeKind::unknown ? kind : title_of(known);
}

// What the case's own record of the files says: the assessment's one look may have been a wrong
// read.
bool was_recorded_as(const CaseFile& job, std::uint64_t start, const VolumeSignature& now) {
  try {
    const Manifest before = load_manifest(Case(job.folder).file("before.manifest"));
    return std::any_of(before.volumes.begin(), before.volumes.end(),
                       [&](const ManifestVolume& v) {
                         return v.start == start && v.info.kind == now.kind;
                       }) ||
           std::any_of(before.ranges.begin(), before.ranges.end(), [&](const ManifestRange& r) {
             return r.start == start && r.description == now.description;
           });
  } catch (const Error& e) {
    if (e.code() != ErrorCode::file) throw;
    return false;  // there is none, or a damaged one
  }
}

// A partition that was a volume of a kind before the job and would now be something else.
std::string other_kind(const Device& back, const Layout& layout, const CaseFile& job) {
  const Expectation expectation = job.assessment.expectation();
  const auto check = [&](unsigned number, SectorRange place) -> std::string {
    const PartitionId id = expectation.id_before(place.first);
    for (const Contents& c : job.assessment.contents) {
      if (c.partition != id || c.fate == Contents::Fate::added) continue;
      VolumeSignature now;
      try {
        now = recognise_volume(Window(back, place));
      } catch (const Error& e) {
        if (e.code() != ErrorCode::device_read) throw;
        continue;  // it can't be told, and couldn't be read then
      }
      if (name_of(now.kind) != c.kind && now.description != c.kind &&
          !was_recorded_as(job, place.first, now))
        return fmt::format("{} would be {}, and was {}", part_name(number), now.description,
                           words_of_kind(c.kind));
    }
    return "";
  };
  if (layout.partitions.empty()) return check(0, {0, back.sectors()});
  for (const Partition& p : layout.data_partitions()) {
    if (p.range().end() > back.sectors()) continue;
    if (std::string other = check(p.number, p.range()); !other.empty()) return other;
  }
  return "";
}

// Whatever the technician agreed to lose: a way back that doesn't end in the old disk is none.
void require_old_disk(const Device& back, const CaseFile& job) {
  const TableReading table = read_table(back);
  const std::string tag = disk_tag(back, table);
  const bool same_layout =
      job.assessment.before.kind == TableKind::none || table.layout == job.assessment.before;
  const std::string kinds = other_kind(back, table.layout, job);
  if (tag == job.assessment.tag && same_layout && kinds.empty()) return;
  const std::string why =
      !kinds.empty() ? kinds
      : !same_layout ? std::string("its partitions would not be as they were")
                     : fmt::format("its tag would be {}, and was {}", tag, job.assessment.tag);
  throw refused("the way back would not end in the old disk: " + why,
                "Nothing was written. If another job was done on this disk after this one, revert "
                "that one first");
}

struct WayBack {
  Device& device;
  const CaseFile& job;
  const RevertOptions& options;
  const Case& folder;
  Progress& progress;
};

// What is compared on the way is in `out`.
void put_back(const WayBack& way, Journal& journal, CaseStage stage, RevertResult& out) {
  const auto& [device, job, options, folder, progress] = way;
  const bool finished = stage == CaseStage::finished;
  const bool keeps_changes = !options.discard_later_changes && stage != CaseStage::torn;
  if (keeps_changes) require_no_foreign(journal, device, job.assessment.after, finished);
  {
    Overlay back(device);
    QuietProgress quiet;
    journal.put_back(back, quiet, Journal::Note::none);
    if (keeps_changes && finished) compare_rehearsed_back(back, job, folder, progress, out);
    require_old_disk(back, job);
  }
  require_undisturbed(device);
  folder.log("reverting", fmt::format("{}, on {}", name_of(stage), device.identity().path));
  try {
    journal.put_back(device, progress, Journal::Note::both);
  } catch (const std::exception& cause) {
    const Error e = as_error(cause);
    folder.log("cut off", e);
    throw Error(ErrorCode::cut_off, "the way back was cut off: " + e.message(), e.place(),
                fmt::format("Neither use the disk nor write to it; run 'nuvrat revert {}' again",
                            as_argument(job.folder)));
  }
  folder.log("reverted", device.identity().path);
  device.reread_table();
  if (out.compared || !out.not_compared.empty()) return;
  if (options.compare)
    compare_put_back(device, job, folder, progress, out);
  else
    out.not_compared = "it was not asked for";
}

// A case beside this one that was begun later, and whose job wrote on this disk what this one
// doesn't know: it was done upon this one.
std::string newer_case(const CaseFile& job, const Device& device, const SectorSet& strange) {
  const auto wrote_these = [&strange](const std::filesystem::path& folder) {
    const std::vector<WrittenRange> writes = Journal::open(folder / "undo.journal").writes();
    return std::any_of(writes.begin(), writes.end(), [&strange](const WrittenRange& w) {
      return strange.first_overlap(w.range).has_value();
    });
  };
  const auto begun = [](const std::filesystem::path& folder) {
    const std::vector<CaseEvent> events = json::read_log(folder / "log.jsonl");
    return events.empty() ? std::string() : events.front().time;
  };
  std::error_code error;
  const auto own = std::filesystem::weakly_canonical(job.folder, error);
  const std::string mine = begun(job.folder);
  for (const auto& beside : base::entries_of(own.parent_path())) {
    if (beside == own || !std::filesystem::exists(beside / "undo.journal")) continue;
    try {
      if (begun(beside) <= mine || !wrote_these(beside)) continue;
      switch (stage_of(load_case(beside), device)) {
        case CaseStage::nothing_written:
        case CaseStage::reverted:
          continue;
        case CaseStage::before_switch:
        case CaseStage::after_switch:
        case CaseStage::torn:
        case CaseStage::finished:
        case CaseStage::reverting:
          return beside.filename().string();
      }
    } catch (const Error&) {
      continue;  // no case, or not one that can be read: it says nothing
    }
  }
  return "";
}

}  // namespace

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

RevertResult revert_case(Device& device, const CaseFile& job, const RevertOptions& options,
                         Progress& progress) {
  require_begun(job);
  require_writable(device);
  device.refresh();
  const CaseStage stage = stage_of(job, device);
  const Case folder(job.folder);
  RevertResult result;
  if (stage == CaseStage::nothing_written) {
    result.already = true;
  } else {
    Journal journal = Journal::open(journal_path(job));
    result.exact = journal.undo() == Undo::full;
    const JournalPosition at = journal.position(device);
    result.already = at.before && at.strange.empty();
    if (!result.already || !journal.reverted()) {
      const std::string newer = at.strange.empty() ? "" : newer_case(job, device, at.strange);
      if (!newer.empty())
        throw refused(fmt::format("there is a newer case of this disk: {}", newer),
                      fmt::format("Nothing was written. Revert {} first", newer));
      put_back({device, job, options, folder, progress}, journal, stage, result);
      result.sectors = journal.bytes_to_put_back() / device.sector_size();
    }
  }
  result.tag_after = disk_tag(device, read_table(device));
  if (stage != CaseStage::nothing_written && result.tag_after != job.assessment.tag)
    throw Error(
        ErrorCode::cut_off,
        fmt::format("every sector of the journal is as it was, but the disk's tag is {} and "
                    "was {}: something else on it has changed",
                    result.tag_after, job.assessment.tag),
        {.subject = device.identity().path}, "Look at it with 'nuvrat survey'");
  return result;
}

}  // namespace nuvrat

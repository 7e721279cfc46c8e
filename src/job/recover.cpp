// Finishing and undoing: from a case, or from what a disk shows of itself.

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/text.h>

#include "job/case.h"
#include "job/steps.h"

namespace nuvrat {
namespace {

std::filesystem::path journal_path(const CaseFile& job) {
  return job.folder / "undo.journal";
}

void require_disk(const CaseFile& job, const Device& device) {
  const Layout& was = job.assessment.before;
  if (device.sectors() == was.disk_sectors && device.sector_size() == was.sector_size) return;
  throw refused(
      fmt::format(
          "this is not the disk of the case: it has {} sectors of {} bytes, that one had {} of {}",
          device.sectors(), device.sector_size(), was.disk_sectors, was.sector_size),
      "Name the right disk with --disk");
}

// "partition 3", "the table": what a sector belongs to, for people.
std::string owner_of(const Layout& layout, std::uint64_t lba) {
  for (const Partition& p : layout.data_partitions()) {
    if (p.range().contains(lba)) return fmt::format("partition {}", p.number);
  }
  return "the table or the room between partitions";
}

void require_no_foreign(const Journal& journal, const Device& device, const Layout& layout,
                        bool finished) {
  const SectorSet foreign = journal.foreign_sectors(device, finished);
  if (foreign.empty()) return;
  std::string text;
  for (const SectorRange& r : foreign.ranges()) {
    if (text.size() > 200) break;
    text +=
        fmt::format("{}{} in {}", text.empty() ? "" : ", ", r.text(), owner_of(layout, r.first));
  }
  throw refused("somebody has written to the disk since: " + text,
                "Nothing was written. To put the old contents back over these changes, pass "
                "--discard-later-changes");
}

void require_same_files(Device& device, const CaseFile& job, const Case& folder,
                        Progress& progress) {
  if (!folder.has("after.manifest")) return;
  const Manifest then = load_manifest(folder.file("after.manifest"));
  const Comparison changes =
      compare(then, take_manifest(device, job.options.read, progress, {}, nullptr, "comparing"));
  if (changes.equal()) return;
  std::string text;
  for (const Difference& d : changes.differences) {
    if (text.size() > 300) break;
    text +=
        fmt::format("{}p{}/{} ({})", text.empty() ? "" : ", ", d.number, d.path, name_of(d.kind));
  }
  throw refused(fmt::format("{} on the disk since the rewrite: {}",
                            plural(changes.count, "thing changed", "things changed"), text),
                "Nothing was written. To go back all the same, pass --discard-later-changes");
}

}  // namespace

const char* name_of(CaseStage stage) {
  switch (stage) {
    case CaseStage::nothing_written:
      return "nothing-written";
    case CaseStage::before_switch:
      return "before-switch";
    case CaseStage::after_switch:
      return "after-switch";
    case CaseStage::finished:
      return "finished";
    case CaseStage::reverting:
      return "reverting";
    case CaseStage::reverted:
      return "reverted";
  }
  return "nothing-written";
}

CaseStage stage_of(const CaseFile& job, const Device& device) {
  require_disk(job, device);
  if (!std::filesystem::exists(journal_path(job))) return CaseStage::nothing_written;
  const Journal journal = Journal::open(journal_path(job));
  if (journal.reverted()) return CaseStage::reverted;
  if (journal.reverting()) return CaseStage::reverting;
  if (journal.steps_recorded() == 0) return CaseStage::nothing_written;
  if (journal.steps_done() == job.assessment.steps.size()) return CaseStage::finished;
  if (journal.steps_recorded() == journal.steps_done()) return CaseStage::after_switch;
  return journal.before_switch(journal.steps_done(), device) ? CaseStage::before_switch
                                                             : CaseStage::after_switch;
}

JobResult resume_case(Device& device, const CaseFile& job, Progress& progress) {
  if (!job.assessment.in_reach())
    throw refused("this case holds a refusal: " + job.assessment.obstacles.front().text,
                  "Nothing was begun, so there is nothing to finish");
  const CaseStage stage = stage_of(job, device);
  Case folder(job.folder);
  if (stage == CaseStage::reverting)
    throw refused("a revert of this case was begun", "Finish it with 'nuvrat revert'");
  if (stage == CaseStage::reverted)
    throw refused("this case was put back", "Begin a new one with 'nuvrat rewrite'");
  if (stage == CaseStage::nothing_written) {
    std::filesystem::remove(journal_path(job));
    folder.log("resumed", "nothing had been written");
    if (disk_tag(device, read_table(device)) != job.assessment.tag) {
      throw refused("the disk is not the one that was assessed, or it changed since",
                    "Assess it again");
    }
    return run_in_case(device, job.assessment, job.options, folder, progress);
  }
  Journal journal = Journal::open(journal_path(job));
  require_no_foreign(journal, device, job.assessment.after, stage == CaseStage::finished);
  folder.log("resumed", name_of(stage));
  unsigned step = journal.steps_done();
  if (stage == CaseStage::after_switch && journal.steps_recorded() > step) {
    const Step& begun = job.assessment.steps[step];
    Overlay overlay(device);
    const Inspection settle =
        Engine::inspect_settle(*make_rewrite(begun, overlay), overlay, owned_for(begun));
    try {
      Engine(device, progress).finish(*make_rewrite(begun, device), settle);
    } catch (const Error& e) {
      throw cut_off(e, folder);
    }
    journal.mark_done(step++);
  }
  const Rehearsal rehearsal = rehearse_steps(device, job.assessment, step);
  do_steps(device, job.assessment, step, rehearsal, journal, folder, progress);
  Manifest before = load_manifest(folder.file("before.manifest"));
  expect_changes(before, job.assessment);
  JobResult result = compare_with(before, device, job.assessment, job.options, folder, progress);
  result.written = journal.writes();
  return result;
}

RevertResult revert_case(Device& device, const CaseFile& job, bool discard_later_changes,
                         Progress& progress) {
  const CaseStage stage = stage_of(job, device);
  Case folder(job.folder);
  RevertResult result;
  if (stage != CaseStage::nothing_written && stage != CaseStage::reverted) {
    Journal journal = Journal::open(journal_path(job));
    const bool finished = stage == CaseStage::finished;
    if (!discard_later_changes) {
      require_no_foreign(journal, device, job.assessment.after, finished);
      if (finished) require_same_files(device, job, folder, progress);
    }
    result.exact = journal.undo() == Undo::full;
    result.sectors = journal.bytes_to_put_back() / device.sector_size();
    folder.log("reverting", name_of(stage));
    try {
      journal.put_back(device, progress);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::device_write && e.code() != ErrorCode::device_read) throw;
      folder.log("cut off", e);
      throw Error(ErrorCode::cut_off, "the way back was cut off: " + e.message(), e.place(),
                  fmt::format("Neither use the disk nor write to it; run 'nuvrat revert {}' again",
                              job.folder.string()));
    }
    folder.log("reverted");
    device.reread_table();
  }
  result.tag_after = disk_tag(device, read_table(device));
  return result;
}

void finish_unfinished(Device& device, const Step& step, Progress& progress) {
  const auto rewrite = make_rewrite(step, device);
  Overlay overlay(device);
  if (step.kind == "gpt-home") {  // not a settle but the second half of a chain
    const Inspection whole = Engine::inspect(*rewrite, overlay, owned_sectors);
    Engine(device, progress).run(*rewrite, whole);
    return;
  }
  const Inspection settle = Engine::inspect_settle(*rewrite, overlay, owned_sectors);
  Engine(device, progress).finish(*rewrite, settle);
}

}  // namespace nuvrat

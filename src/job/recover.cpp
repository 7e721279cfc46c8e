// Finishing what was cut off: from a case, or from what a disk shows of itself.

#include "job/recover.h"

#include <filesystem>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "job/case.h"
#include "job/clock.h"
#include "job/steps.h"

namespace nuvrat::job {
namespace {

// Size, then what no other disk has: the identity of the table, or the contents of the very sectors
// that the job is about. Where a disk is plugged in, and what an adapter says of it, may change.
void require_disk(const CaseFile& job, const Device& device, const Journal* journal) {
  const Layout& was = job.assessment.before;
  if (device.sectors() != was.disk_sectors || device.sector_size() != was.sector_size) {
    throw refused(
        fmt::format("this is not the disk of the case: it has {} sectors of {} bytes, that one had "
                    "{} of {}",
                    device.sectors(), device.sector_size(), was.disk_sectors, was.sector_size),
        "Name the right disk with --disk");
  }
  TableReading table;
  bool readable = true;
  try {
    table = read_table(device);
  } catch (const Error& e) {  // torn by the cut: the other sectors tell
    if (e.code() != ErrorCode::device_read || journal == nullptr) throw;
    readable = false;
  }
  const Layout& is = table.layout;
  const auto same = [&is](const Layout& l) {
    return l.kind == is.kind && l.kind != TableKind::none && l.id_text() == is.id_text();
  };
  if (same(was) || same(job.assessment.after)) return;
  readable = readable && !is.partitions.empty() && !has_errors(table.findings);
  if (readable) {
    // A table with an identity of its own is another disk's, whatever else is alike.
  } else if (journal == nullptr || journal->steps_recorded() == 0) {
    if (disk_tag(device, table) == job.assessment.tag) return;
  } else if (const DeviceIdentity& then = job.assessment.device;
             journal->recognises(device) ||
             (!then.serial.empty() && then.serial == device.identity().serial &&
              then.model == device.identity().model)) {
    return;  // a table that is no longer readable, or none: the sectors tell
  }
  throw refused(
      fmt::format("this is not the disk of the case, or its table was made anew since: it has {}, "
                  "the case knows {}{}",
                  is.id_text().empty() ? "no table" : is.id_text(),
                  was.id_text().empty() ? "a disk without a table" : was.id_text(),
                  job.assessment.after.id_text() == was.id_text()
                      ? ""
                      : " and " + job.assessment.after.id_text()),
      "Nothing was written. Name the right disk with --disk");
}

Error damaged_case(const CaseFile& job, const std::string& text) {
  return {ErrorCode::file,
          "the case is damaged: " + text,
          {.path = job.folder},
          "Nothing was changed. Take the case from a copy, if there is one"};
}

Error changed_since(const std::string& where) {
  return refused("the disk, or Nuvrat, changed since the rewrite was cut off: " + where,
                 "Nothing was written. Go back with 'nuvrat revert', then begin anew");
}

// A resumed job writes nothing that the journal doesn't hold, and what it held then.
void require_recorded(const Journal& journal, const Inspection& inspection, const Device& rehearsed,
                      unsigned step) {
  if (journal.steps_recorded() <= step) return;  // it will be recorded before it is done
  SectorSet recorded;
  for (const WrittenRange& w : journal.writes()) {
    if (w.step == step) recorded.add(w.range);
  }
  for (const SectorRange& r : inspection.all_sectors()) {
    if (!recorded.contains(r))
      throw changed_since("it would now write sectors that the journal doesn't hold, such as " +
                          r.text());
  }
  if (const auto lba = journal.differs_from(rehearsed, step))
    throw changed_since(fmt::format("it would now leave something else in sector {}", *lba));
}

// "partition 3", "the table": what a sector belongs to, for people.
std::string owner_of(const Layout& layout, std::uint64_t lba) {
  for (const Partition& p : layout.data_partitions()) {
    if (p.range().contains(lba)) return fmt::format("partition {}", p.number);
  }
  return "the table or the room between partitions";
}

}  // namespace

std::filesystem::path journal_path(const CaseFile& job) {
  return std::filesystem::path(job.folder) / "undo.journal";
}

void require_no_foreign(const Journal& journal, const Device& device, const Layout& layout,
                        bool finished) {
  const StrangeSectors strange = journal.strange_sectors(device, finished);
  const auto names = [&layout](const SectorSet& sectors) {
    std::string text;
    for (const SectorRange& r : sectors) {
      if (text.size() > 200) return text + " …";
      text +=
          fmt::format("{}{} in {}", text.empty() ? "" : ", ", r.text(), owner_of(layout, r.first));
    }
    return text;
  };
  if (!strange.unreadable.empty())
    throw Error(
        ErrorCode::device_read,
        "sectors that the rewrite wrote can't be read: " + names(strange.unreadable),
        {.subject = device.identity().path, .sector = strange.unreadable.ranges().front().first},
        "Nothing was written. To put the old contents back over them, 'nuvrat revert' with "
        "--discard-later-changes");
  if (strange.foreign.empty()) return;
  throw refused("the disk has been written to since: " + names(strange.foreign),
                "Nothing was written. To put the old contents back over these changes, "
                "'nuvrat revert' with --discard-later-changes");
}

void require_begun(const CaseFile& job) {
  if (!job.assessment.in_reach())
    throw refused("this case holds a refusal: " + job.assessment.obstacles.front().text,
                  "Nothing was begun, so there is nothing to finish or to put back");
}

namespace {

// What the journal notes is of one disk, and this may be another: its sectors decide, and a note
// only where they fit both ways.
Standing standing_by_sectors(const Journal& journal, const Device& device, std::size_t steps) {
  const JournalPosition at = journal.position(device);
  const bool went_back = journal.reverting() || journal.reverted();
  if (journal.torn_sector(device)) return {CaseStage::torn, at.after ? at.steps - 1 : at.steps};
  if (at.before) {
    const bool begun = went_back || journal.steps_done() > 0;
    return {begun ? CaseStage::reverted : CaseStage::before_switch, 0};
  }
  if (at.after) {
    const bool all = at.steps == steps;
    if (all && (journal.steps_done() == steps || went_back)) return {CaseStage::finished, at.steps};
    // Its last step may not be on the medium for good: it is settled again.
    return {CaseStage::after_switch, std::min(at.steps, journal.steps_done())};
  }
  if (went_back) return {CaseStage::reverting, at.steps};
  return {
      journal.before_switch(at.steps, device) ? CaseStage::before_switch : CaseStage::after_switch,
      at.steps};
}

// The cut left in a sector what was never written: the step that was under way goes back to where
// it began, from the journal, and is then done anew.
void put_torn_step_back(Device& device, const CaseFile& job, unsigned step, const Case& folder,
                        Progress& progress) {
  Journal journal = Journal::open(journal_path(job));
  folder.log("torn", fmt::format("{} can't be read as anything that was written: put back from "
                                 "the journal",
                                 journal.torn_sector(device)->text()));
  progress.stage("putting back", 0);
  try {
    journal.put_back_step(step, device, progress);
  } catch (const std::exception& cause) {
    throw cut_off(as_error(cause), folder);
  }
}

}  // namespace

namespace {

// What was recorded before the job; the comparison needs it, so it is read before anything is
// written.
Manifest recorded_before(const CaseFile& job, CaseStage stage, const Case& folder) {
  try {
    return load_manifest(folder.file("before.manifest"));
  } catch (const Error& e) {
    const std::string name = as_argument(job.folder);
    if (stage == CaseStage::finished)
      throw Error(ErrorCode::not_compared,
                  "the rewrite is done, and its files can't be compared: the case's record of them "
                  "can't be used: " +
                      e.message(),
                  e.place(),
                  fmt::format("Put a copy of before.manifest into the case, or keep the disk as it "
                              "is and look at it with 'nuvrat check', or go back with 'nuvrat "
                              "revert {}'",
                              name));
    throw refused("the case's record of the files can't be used: " + e.message(),
                  fmt::format("Nothing was written. Put a copy of before.manifest into the case, "
                              "or go back with 'nuvrat revert {}'",
                              name));
  }
}

JobResult resume_in_case(Device& device, const CaseFile& job, Standing at, Case& folder,
                         Progress& progress) {
  std::optional<Manifest> before;
  if (at.stage != CaseStage::nothing_written && at.stage != CaseStage::reverted)
    before = recorded_before(job, at.stage, folder);
  if (at.stage == CaseStage::torn) {
    put_torn_step_back(device, job, at.steps, folder, progress);
    at = standing_of(job, device);
  }
  if (at.stage == CaseStage::reverted)
    throw refused("this disk was put back: it is as it was before the job",
                  "Nothing was written. Begin a new job with 'nuvrat rewrite'");
  const CaseStage stage = at.stage;
  if (stage == CaseStage::nothing_written) {
    folder.log("resumed", "nothing had been written");
    return run_in_case({device, job.assessment, job.options, folder, progress});
  }
  Journal journal = Journal::open(journal_path(job));
  require_no_foreign(journal, device, job.assessment.after, stage == CaseStage::finished);
  folder.log("resumed", name_of(stage));
  JobClock clock(progress, job.assessment, job.options.proof, JobClock::rehearsing);
  const Run run{device, job.assessment, job.options, folder, clock};
  unsigned step = at.steps;
  const bool switched = stage != CaseStage::finished && journal.steps_recorded() > step &&
                        !journal.before_switch(step, device);
  if (switched) {
    const Step& begun = job.assessment.steps[step];
    Overlay overlay(device);
    const Inspection settle =
        Engine::inspect_settle(*make_rewrite(begun, overlay), overlay, OwnedBy(begun));
    require_recorded(journal, settle, overlay, step);
    try {
      Engine(device, clock).finish_again(*make_rewrite(begun, device), settle);
    } catch (const Error& e) {
      throw cut_off(e, folder);
    }
    journal.mark_done(step++);
  }
  const Rehearsal rehearsal = rehearse_steps(device, job.assessment, step);
  for (std::size_t i = 0; i < rehearsal.inspections.size(); ++i)
    require_recorded(journal, rehearsal.inspections[i], *rehearsal.after[i],
                     step + static_cast<unsigned>(i));
  rehearsal.make_ready(device);
  clock.begin(JobClock::writing);
  const bool from_medium = do_steps(run, step, rehearsal, journal);
  expect(job.assessment.expectation(), *before);
  const tree::Recording recorded = tree::Recording::put_aside(std::move(*before), folder.file(""));
  clock.begin(JobClock::comparing);
  JobResult result = compare_done(run, recorded, journal);
  clock.finish();
  result.from_medium &= from_medium;
  return result;
}

}  // namespace

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

const char* name_of(CaseStage stage) {
  switch (stage) {
    case CaseStage::nothing_written:
      return "nothing-written";
    case CaseStage::before_switch:
      return "before-switch";
    case CaseStage::after_switch:
      return "after-switch";
    case CaseStage::torn:
      return "torn";
    case CaseStage::finished:
      return "finished";
    case CaseStage::reverting:
      return "reverting";
    case CaseStage::reverted:
      return "reverted";
  }
  return "nothing-written";
}

OpenOptions CaseFile::open_options(bool writable) const {
  return {writable, assessment.before.sector_size, assessment.device.physical_sector_size};
}

std::string CaseFile::tag_now(const Device& device, CaseStage stage) const {
  return stage == CaseStage::torn ? assessment.tag : disk_tag(device, read_table(device));
}

Standing job::standing_of(const CaseFile& job, const Device& device) {
  const std::size_t steps = job.assessment.steps.size();
  const std::size_t logged = count_events(job.folder, "step done");
  std::optional<Journal> journal;
  if (std::filesystem::exists(journal_path(job))) journal = Journal::open(journal_path(job));
  require_disk(job, device, journal ? &*journal : nullptr);
  const unsigned done = journal ? journal->steps_done() : 0;
  if (std::min(logged, steps) > done)
    throw damaged_case(job, fmt::format("its log knows of {} done, its journal of {}",
                                        plural(logged, "step", "steps"), done));
  if (std::filesystem::exists(std::filesystem::path(job.folder) / "result.json") && done < steps)
    throw damaged_case(job, "it holds a result, but its journal no end of the rewrite");
  if (!journal || journal->steps_recorded() == 0) {
    // Said only when the disk says so as well.
    if (job.assessment.in_reach() && disk_tag(device, read_table(device)) != job.assessment.tag)
      throw refused(
          "the case says that nothing was written, but the disk isn't as it was assessed: "
          "it was changed since, or the case is damaged",
          "Nothing was written. Look at the disk with 'nuvrat survey'");
    return {CaseStage::nothing_written, 0};
  }
  return standing_by_sectors(*journal, device, steps);
}

CaseStage stage_of(const CaseFile& job, const Device& device) {
  return standing_of(job, device).stage;
}

JobResult resume_case(Device& device, const CaseFile& job, Progress& progress) {
  require_begun(job);
  require_writable(device);
  device.refresh();
  const Standing at = standing_of(job, device);
  Case folder(job.folder);
  folder.set_written(at.stage != CaseStage::nothing_written && at.stage != CaseStage::reverted);
  try {
    return resume_in_case(device, job, at, folder, progress);
  } catch (const Error& e) {
    if (e.code() == ErrorCode::refused) throw;  // nothing was written this time
    throw ending(e, folder);
  } catch (const std::exception& cause) {
    throw ending(cause, folder);
  }
}

void finish_unfinished(Device& device, const UnfinishedStep& unfinished, Progress& progress) {
  require_writable(device);
  const auto rewrite = make_rewrite(unfinished.step, device);
  Overlay overlay(device);
  if (unfinished.whole) {
    const Inspection whole = Engine::inspect(*rewrite, overlay, owned_sectors);
    Engine(device, progress).run(*rewrite, whole);
    return;
  }
  const Inspection settle = Engine::inspect_settle(*rewrite, overlay, owned_sectors);
  Engine(device, progress).finish_again(*rewrite, settle);
}

}  // namespace nuvrat

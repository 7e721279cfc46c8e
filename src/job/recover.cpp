// Finishing and undoing: from a case, or from what a disk shows of itself.

#include <fstream>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/text.h>

#include "base/descriptor.h"
#include "job/case.h"
#include "job/clock.h"
#include "job/steps.h"

namespace nuvrat {
namespace {

std::filesystem::path journal_path(const CaseFile& job) {
  return job.folder / "undo.journal";
}

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
          {{}, {}, {}, job.folder.string()},
          "Nothing was changed. Take the case from a copy, if there is one"};
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
  const StrangeSectors strange = journal.strange_sectors(device, finished);
  const auto names = [&layout](const SectorSet& sectors) {
    std::string text;
    for (const SectorRange& r : sectors.ranges()) {
      if (text.size() > 200) return text + " …";
      text +=
          fmt::format("{}{} in {}", text.empty() ? "" : ", ", r.text(), owner_of(layout, r.first));
    }
    return text;
  };
  if (!strange.unreadable.empty())
    throw Error(ErrorCode::device_read,
                "sectors that the rewrite wrote can't be read: " + names(strange.unreadable),
                {device.identity().path, strange.unreadable.ranges().front().first, {}, {}},
                "Nothing was written. To put the old contents back over them, 'nuvrat revert' with "
                "--discard-later-changes");
  if (strange.foreign.empty()) return;
  throw refused("the disk has been written to since: " + names(strange.foreign),
                "Nothing was written. To put the old contents back over these changes, "
                "'nuvrat revert' with --discard-later-changes");
}

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

// The way back, played through: nothing is written unless every file will be there again. Sectors
// that the job gave up without writing them (old places of what it moved, a FAT that is no more)
// are in no journal, and somebody may have used them since: only reading tells. What the job made
// anew is in the journal, which was held against the disk before.
std::optional<Comparison> rehearse_way_back(const Device& device, const CaseFile& job,
                                            Journal& journal, const Case& folder,
                                            Progress& progress) {
  if (!folder.has("before.manifest")) return std::nullopt;
  const Manifest recorded = load_manifest(folder.file("before.manifest"));
  Overlay back(device);
  QuietProgress quiet;
  journal.put_back(back, quiet, Journal::Note::none);
  const Comparison out = verify_disk(recorded, back, job.options.read, progress).comparison;
  if (out.equal()) {
    require_sound_volumes(back, job);
    return out;
  }
  throw refused(
      fmt::format("the disk has been written to since, and on the way back {} as recorded "
                  "before the rewrite: {}",
                  plural(out.count, "thing would not be", "things would not be"), some_of(out)),
      "Nothing was written. To go back all the same, pass --discard-later-changes");
}

void require_begun(const CaseFile& job) {
  if (!job.assessment.in_reach())
    throw refused("this case holds a refusal: " + job.assessment.obstacles.front().text,
                  "Nothing was begun, so there is nothing to finish or to put back");
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
  for (const SectorRange& r : inspection.all_sectors().ranges()) {
    if (!recorded.contains(r))
      throw changed_since("it would now write sectors that the journal doesn't hold, such as " +
                          r.text());
  }
  if (const auto lba = journal.differs_from(rehearsed, step))
    throw changed_since(fmt::format("it would now leave something else in sector {}", *lba));
}

// The way back is done, whatever comes of this. Nobody should have used a disk between two states,
// and leaving it there would be worse, so it is read only now.
void compare_put_back(const Device& device, const CaseFile& job, const Case& folder,
                      Progress& progress, RevertResult& out) {
  if (!folder.has("before.manifest")) {
    out.not_compared = "the case holds no record of the files";
    return;
  }
  try {
    device.forget({0, device.sectors()});
    const Manifest recorded = load_manifest(folder.file("before.manifest"));
    out.compared = verify_disk(recorded, device, job.options.read, progress).comparison;
  } catch (const Error& e) {
    out.not_compared = e.message();
  }
}

void put_back(Device& device, const CaseFile& job, Journal& journal, CaseStage stage,
              const RevertOptions& options, const Case& folder, Progress& progress,
              RevertResult& out) {
  const bool finished = stage == CaseStage::finished;
  if (!options.discard_later_changes && stage != CaseStage::torn) {
    require_no_foreign(journal, device, job.assessment.after, finished);
    if (finished) out.compared = rehearse_way_back(device, job, journal, folder, progress);
  }
  if (!job.copy) folder.log("reverting", name_of(stage));
  try {
    journal.put_back(device, progress, job.copy ? Journal::Note::none : Journal::Note::both);
  } catch (const std::exception& cause) {
    const Error e = as_error(cause);
    if (!job.copy) folder.log("cut off", e);
    throw Error(ErrorCode::cut_off, "the way back was cut off: " + e.message(), e.place(),
                fmt::format("Neither use the disk nor write to it; run 'nuvrat revert {}' again",
                            job.folder.string()));
  }
  if (!job.copy) folder.log("reverted");
  device.reread_table();
  if (out.compared) return;
  if (options.compare)
    compare_put_back(device, job, folder, progress, out);
  else
    out.not_compared = "it was not asked for";
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

CaseStage stage_of(const CaseFile& job, const Device& device) {
  const std::size_t steps = job.assessment.steps.size();
  const std::size_t logged = count_events(job.folder, "step done");
  std::optional<Journal> journal;
  if (std::filesystem::exists(journal_path(job))) journal = Journal::open(journal_path(job));
  require_disk(job, device, journal ? &*journal : nullptr);
  const unsigned done = journal ? journal->steps_done() : 0;
  if (logged > done)
    throw damaged_case(job, fmt::format("its log knows of {} done, its journal of {}",
                                        plural(logged, "step", "steps"), done));
  if (std::filesystem::exists(job.folder / "result.json") && done < steps)
    throw damaged_case(job, "it holds a result, but its journal no end of the rewrite");
  if (!journal || journal->steps_recorded() == 0) {
    // Said only when the disk says so as well.
    if (job.assessment.in_reach() && disk_tag(device, read_table(device)) != job.assessment.tag)
      throw refused(
          "the case says that nothing was written, but the disk isn't as it was assessed: "
          "it was changed since, or the case is damaged",
          "Nothing was written. Look at the disk with 'nuvrat survey'");
    return CaseStage::nothing_written;
  }
  if (journal->reverted()) return CaseStage::reverted;
  if (journal->torn_sector(device)) return CaseStage::torn;
  if (journal->reverting()) return CaseStage::reverting;
  if (done == steps) return CaseStage::finished;
  if (journal->steps_recorded() == done) return CaseStage::after_switch;
  return journal->before_switch(done, device) ? CaseStage::before_switch : CaseStage::after_switch;
}

namespace {

// The cut left in a sector what was never written: the step that was under way goes back to where
// it began, from the journal, and is then done anew.
void put_torn_step_back(Device& device, const CaseFile& job, const Case& folder,
                        Progress& progress) {
  Journal journal = Journal::open(journal_path(job));
  folder.log("torn", fmt::format("{} can't be read as anything that was written: put back from "
                                 "the journal",
                                 journal.torn_sector(device)->text()));
  progress.stage("putting back", 0);
  try {
    journal.put_back_step(journal.steps_done(), device, progress);
  } catch (const std::exception& cause) {
    throw cut_off(as_error(cause), folder);
  }
}

}  // namespace

namespace {

JobResult resume_in_case(Device& device, const CaseFile& job, CaseStage stage, Case& folder,
                         Progress& progress) {
  if (stage == CaseStage::torn && !Journal::open(journal_path(job)).reverting()) {
    put_torn_step_back(device, job, folder, progress);
    stage = stage_of(job, device);
  }
  if (stage == CaseStage::reverting || stage == CaseStage::torn)
    throw refused("a revert of this case was begun", "Finish it with 'nuvrat revert'");
  if (stage == CaseStage::reverted)
    throw refused("this case was put back", "Begin a new one with 'nuvrat rewrite'");
  if (stage == CaseStage::nothing_written) {
    folder.log("resumed", "nothing had been written");
    return run_in_case(device, job.assessment, job.options, folder, progress);
  }
  Journal journal = Journal::open(journal_path(job));
  require_no_foreign(journal, device, job.assessment.after, stage == CaseStage::finished);
  folder.log("resumed", name_of(stage));
  JobClock clock(progress, job.assessment, job.options.proof, JobClock::rehearsing);
  unsigned step = journal.steps_done();
  if (stage == CaseStage::after_switch && journal.steps_recorded() > step) {
    const Step& begun = job.assessment.steps[step];
    Overlay overlay(device);
    const Inspection settle =
        Engine::inspect_settle(*make_rewrite(begun, overlay), overlay, owned_for(begun));
    require_recorded(journal, settle, overlay, step);
    try {
      Engine(device, clock).finish_again(*make_rewrite(begun, device), settle);
    } catch (const Error& e) {
      throw cut_off(e, folder);
    }
    journal.mark_done(step++);
  }
  const Rehearsal rehearsal = rehearse_steps(device, job.assessment, step);
  if (!rehearsal.inspections.empty())
    require_recorded(journal, rehearsal.inspections.front(), *rehearsal.after.front(), step);
  rehearsal.reserve(device);
  clock.begin(JobClock::writing);
  const bool from_medium =
      do_steps(device, job.assessment, step, rehearsal, journal, folder, clock);
  Manifest before = load_manifest(folder.file("before.manifest"));
  expect(job.assessment.changes, before);
  clock.begin(JobClock::comparing);
  JobResult result =
      compare_done(before, device, job.assessment, job.options, folder, journal, clock);
  clock.finish();
  result.from_medium &= from_medium;
  return result;
}

}  // namespace

JobResult resume_case(Device& device, const CaseFile& job, Progress& progress) {
  require_begun(job);
  const CaseStage stage = stage_of(job, device);
  Case folder(job.folder);
  folder.set_written(stage != CaseStage::nothing_written && stage != CaseStage::reverted);
  try {
    return resume_in_case(device, job, stage, folder, progress);
  } catch (const Error& e) {
    if (e.code() == ErrorCode::refused) throw;  // nothing was written this time
    throw ending(e, folder);
  } catch (const std::exception& cause) {
    throw ending(cause, folder);
  }
}

namespace {

// A case beside this one, of the same disk, begun later, and not put back.
std::string newer_case(const CaseFile& job) {
  const auto begun = [](const std::filesystem::path& folder) {
    std::ifstream in(folder / "log.jsonl");
    std::string line;
    std::getline(in, line);
    const std::size_t at = line.find("\"time\":\"");
    return at == line.npos ? std::string() : line.substr(at + 8, 20);
  };
  std::error_code error;
  const auto own = std::filesystem::weakly_canonical(job.folder, error);
  const std::string mine = begun(job.folder);
  for (const auto& beside : entries_of(own.parent_path())) {
    if (beside == own || !std::filesystem::exists(beside / "undo.journal")) continue;
    try {
      const CaseFile other = load_case(beside);
      const Journal journal = Journal::open(beside / "undo.journal");
      if (other.disk == job.disk && journal.steps_recorded() > 0 && !journal.reverted() &&
          begun(beside) > mine)
        return beside.filename().string();
    } catch (const Error&) {
      continue;  // no case, or not one that can be read: it says nothing
    }
  }
  return "";
}

}  // namespace

RevertResult revert_case(Device& device, const CaseFile& job, const RevertOptions& options,
                         Progress& progress) {
  require_begun(job);
  const CaseStage stage = stage_of(job, device);
  const Case folder(job.folder);
  RevertResult result;
  if (stage == CaseStage::nothing_written) {
    result.already = true;
  } else {
    Journal journal = Journal::open(journal_path(job));
    result.exact = journal.undo() == Undo::full;
    result.already = journal.is_put_back(device);
    if (stage == CaseStage::reverted && !result.already)
      throw refused("this case was put back before, and the disk has been written to since",
                    "Nothing was written. If another case made it so, revert that one");
    if (!result.already || stage != CaseStage::reverted) {
      if (const std::string newer = newer_case(job); !newer.empty() && !job.copy)
        throw refused(fmt::format("there is a newer case of this disk: {}", newer),
                      fmt::format("Nothing was written. Revert {} first", newer));
      put_back(device, job, journal, stage, options, folder, progress, result);
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
        {device.identity().path, {}, {}, {}}, "Look at it with 'nuvrat survey'");
  return result;
}

void finish_unfinished(Device& device, const UnfinishedStep& unfinished, Progress& progress) {
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

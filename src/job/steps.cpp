#include "job/steps.h"

#include <algorithm>
#include <filesystem>
#include <map>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "job/left_behind.h"
#include "json/manifest_file.h"
#include "tree/comparer.h"
#include "tree/places.h"

namespace nuvrat::job {
namespace {

// After the first switch there is no way but forward: a stop asked for then waits for the end.
class Uncancellable final : public Progress {
 public:
  explicit Uncancellable(Progress& inner) : inner_(inner) {}
  void stage(std::string_view name, std::uint64_t total) override {
    tell();
    inner_.stage(name, total);
  }
  void advance(std::uint64_t bytes) override {
    tell();
    inner_.advance(bytes);
  }
  [[nodiscard]] bool cancelled() const override { return false; }

 private:
  void tell() {
    if (told_ || !inner_.cancelled()) return;
    told_ = true;
    inner_.end_awaited();
  }

  Progress& inner_;
  bool told_ = false;
};

// The first step failed or was stopped. Where its switch has not happened, everything goes back.
[[noreturn]] void give_up(const Error& cause, Device& device, Journal& journal, Case& folder) {
  folder.log("stopped", cause);
  QuietProgress quiet;
  try {
    if (!journal.before_switch(0, device)) throw cut_off(cause, folder);
    journal.put_back(device, quiet, Journal::Note::end);
    folder.set_written(false);
  } catch (const Error& e) {
    throw e.code() == ErrorCode::cut_off ? e : cut_off(cause, folder);
  }
  folder.log("put back");
  throw Error(cause.code(), cause.message() + "; the disk is as it was", cause.place(),
              cause.remedy());
}

Error case_gone(ErrorCode code, const std::string& what, const Case& folder,
                const std::string& remedy) {
  const std::filesystem::path name = folder.file("").parent_path();
  return {code, "the case's folder is gone from its place" + what, {.path = name.string()}, remedy};
}

bool do_step(const Run& run, unsigned number, const Inspection& inspection, const Overlay& after,
             Journal& journal) {
  if (!run.folder.still_there())
    throw case_gone(ErrorCode::file, "", run.folder,
                    "Keep the case where it is until the job is done");
  if (journal.steps_recorded() <= number) {
    journal.record_step(number, run.device, inspection, after);
  }
  run.folder.set_written(true);
  Engine engine(run.device, run.progress);
  engine.run(*make_rewrite(run.assessment.steps[number], run.device), inspection);
  journal.mark_done(number);
  return engine.read_from_medium();
}

}  // namespace

void put_back_without_case(Device& device, Journal& journal, Case& folder) {
  QuietProgress quiet;
  try {
    journal.put_back(device, quiet, Journal::Note::none);
  } catch (const std::exception& cause) {
    throw case_gone(ErrorCode::cut_off,
                    ", and the disk could not be put back: " + as_error(cause).message(), folder,
                    "Bring the folder back under its name, mount what holds it, then run 'nuvrat "
                    "revert' with it");
  }
  folder.set_written(false);
  throw case_gone(ErrorCode::file, ": what was written was put back; the disk is as it was", folder,
                  "Begin anew with a case folder that stays where it is");
}

Error as_error(const std::exception& e) {
  if (const auto* known = dynamic_cast<const Error*>(&e)) return *known;
  return {ErrorCode::file, fmt::format("the machine failed: {}", e.what())};
}

Error ending(const std::exception& cause, const Case& folder) {
  Error e = as_error(cause);
  const bool media = e.code() == ErrorCode::device_read || e.code() == ErrorCode::device_write;
  if (media && e.remedy().empty())
    e = Error(
        e.code(), e.message(), e.place(),
        "Nothing new is on the disk. A rewrite needs every sector that it writes, and what is "
        "there now: copy the disk to a good one, or into an image, and do it there");
  const bool said = e.code() == ErrorCode::cut_off || e.code() == ErrorCode::not_compared;
  return said || !folder.written() ? e : cut_off(e, folder);
}

Error cut_off(const Error& cause, const Case& folder) {
  const std::string name = as_argument(folder.file("").parent_path().string());
  return {ErrorCode::cut_off, "the rewrite was cut off: " + cause.message(), cause.place(),
          fmt::format("Run 'nuvrat resume {}' to finish it, or 'nuvrat revert {}' to go back", name,
                      name)};
}

void require_writable(const Device& device) {
  if (!device.writable())
    throw Error(ErrorCode::refused, "the disk was opened for reading only",
                {.path = device.identity().path},
                "Nothing was written. Open it for writing, and run the job again");
}

void require_undisturbed(const Device& device) {
  const std::string who = device.disturbance();
  if (who.empty()) return;
  throw Error(
      ErrorCode::busy, "the disk isn't left alone: " + who, {.path = device.identity().path},
      "Nothing was written. Close what uses it, and run the command again: all is read anew");
}

SectorSet Rehearsal::written() const {
  SectorSet out;
  for (const Inspection& i : inspections) out.add(i.all_sectors());
  return out;
}

std::uint64_t Rehearsal::journal_bytes(const Device& device, Undo undo) const {
  std::uint64_t out = 65536;  // its header, the plan and the witnesses
  for (unsigned i = 0; i < inspections.size(); ++i)
    out += Journal::room_for(i, device, inspections[i], undo);
  return out;
}

Rehearsal rehearse_steps(Device& device, const Assessment& assessment, unsigned first) {
  Rehearsal out;
  const Device* below = &device;
  for (std::size_t i = first; i < assessment.steps.size(); ++i) {
    out.after.push_back(std::make_unique<Overlay>(*below));
    const Step& step = assessment.steps[i];
    const auto rewrite = make_rewrite(step, *out.after.back());
    out.inspections.push_back(Engine::inspect(*rewrite, *out.after.back(), OwnedBy(step)));
    require_layout(assessment.steps[i].target(), read_table(*out.after.back()), "in the rehearsal");
    below = out.after.back().get();
  }
  return out;
}

bool do_steps(const Run& run, unsigned first, const Rehearsal& rehearsal, Journal& journal) {
  Uncancellable onwards(run.progress);
  Case& folder = run.folder;
  bool from_medium = true;
  for (unsigned i = first; i < run.assessment.steps.size(); ++i) {
    const Step& step = run.assessment.steps[i];
    folder.log("step", step.name());
    try {
      from_medium &= do_step(i == 0 ? run : run.told(onwards), i, rehearsal.inspections[i - first],
                             *rehearsal.after[i - first], journal);
    } catch (const std::exception& cause) {
      const Error e = as_error(cause);
      if (journal.steps_recorded() == 0) throw e;  // nothing was written
      if (!folder.still_there()) put_back_without_case(run.device, journal, folder);
      if (i == 0) give_up(e, run.device, journal, folder);
      folder.log("cut off", e);
      throw cut_off(e, folder);
    }
    folder.log("step done", step.name());
  }
  return from_medium;
}

namespace {

// A volume that can be read again was one range: every sector of it that was not written is as it
// was.
void require_as_recorded(const Run& run, const tree::Recording& before, Journal& journal) {
  const Device& device = run.device;
  Progress& progress = run.progress;
  if (before.proof() == Proof::places) return;
  const Expectation expectation = run.assessment.expectation();
  for (const ManifestRange& r : before.ranges()) {
    if (!expectation.opens(r.start)) continue;
    Overlay back(device);
    QuietProgress quiet;
    journal.put_back(back, quiet, Journal::Note::none);
    progress.stage(fmt::format("hashing {}", part_name(r.number)),
                   r.sectors * device.sector_size());
    std::vector<ByteRange> unreadable;
    const Digest now = range_digest(back, {r.start, r.sectors}, progress, unreadable);
    if (now == r.digest && unreadable == r.unreadable) continue;
    throw Error(
        ErrorCode::device_write,
        fmt::format("sectors of {} that were not written are not what was recorded: with what was "
                    "written put back its hash is {}, and was {}",
                    part_name(r.number), now.hex().substr(0, 16), r.digest.hex().substr(0, 16)),
        {.subject = device.identity().path});
  }
}

// Each volume that was made anew is what it was to become, with the serial number that it was
// given.
void require_volumes(const Assessment& assessment, const Device& device, const Layout& layout) {
  std::map<std::uint64_t, const VolumeChange*> last;  // by start: what is on the way doesn't stay
  for (const Step& step : assessment.steps) {
    const VolumeChange* change = step.volume();
    if (change == nullptr) continue;
    if (change->front > 0) {
      auto moved = last.extract(change->place.first);
      if (!moved.empty()) last[change->new_place().first] = moved.mapped();
    }
    if (change->anew) last[change->new_place().first] = change;
  }
  for (const auto& [start, change] : last) {
    const VolumeChange& v = *change;
    SectorRange place = v.new_place();  // unless the table has changed since
    for (const Partition& p : layout.data_partitions()) {
      if (p.start == start) place = p.range();
    }
    const Window window(device, place);
    const auto reader = open_volume(window, {});
    if (reader != nullptr && reader->info().kind == v.to &&
        reader->info().serial_number == v.serial)
      continue;
    throw Error(ErrorCode::guard,
                fmt::format("{} was to be {}, and is {}", part_name(v.number), name_of(v.to),
                            reader == nullptr ? "unknown contents" : name_of(reader->info().kind)),
                {.subject = part_name(v.number), .sector = place.first},
                "This is a mistake in Nuvrat: please report it");
  }
}

// `written`: by the whole job.
JobResult compare_with(const Run& run, const tree::Recording& expected, const SectorSet& written) {
  const auto& [device, assessment, options, folder, progress] = run;
  Uncancellable onwards(progress);
  device.forget({0, device.sectors()});  // what is compared comes from the medium
  const TableReading table = read_table(device);
  require_layout(assessment.after, table, "after the rewrite");
  require_volumes(assessment, device, table.layout);
  JobResult result;
  result.table_reread = device.reread_table();
  // First the check, then the manifest: what either holds of the files needn't lie side by side.
  for (Finding& f : survey_disk(device, options.read, true).all_findings()) {
    if (f.severity != Severity::note) result.findings_after.push_back(std::move(f));
  }
  Manifest after =
      take_manifest(device, options.read, onwards, {.doing = "comparing", .proof = options.proof});
  const Expectation expectation = assessment.expectation();
  tree::hash_unsettled(expected, after, device, {expectation, written, onwards});
  const std::string seal = json::save_private_manifest(after, folder.file("after.manifest"));
  result.comparison = tree::with_seals(
      tree::compare_with_changes(expected, after, AccessTimes::compared, expectation), expected,
      after, seal);
  result.tag_after = disk_tag(device, table);
  result.files = after.files();
  result.bytes = after.bytes();
  result.ranges = after.ranges.size();
  result.unreadable = result.comparison.unreadable;
  result.left_out = result.comparison.left_out;
  result.left_behind = count_left_behind(folder.file(""));
  result.seconds = folder.seconds();
  folder.put("result.json", json::result_text(result));
  folder.log("compared",
             fmt::format("{} differences, {}", result.comparison.count,
                         options.proof == Proof::places ? std::string("by places")
                                                        : "seal " + result.comparison.seal_after));
  return result;
}

}  // namespace

JobResult compare_done(const Run& run, const tree::Recording& before, Journal& journal) {
  Device& device = run.device;
  const auto require_not_replaced = [&device] {
    if (const std::string other = device.replaced(); !other.empty())
      throw Error(ErrorCode::device_write, other + ": what was rewritten is what was opened",
                  {.path = device.identity().path});
  };
  try {
    require_not_replaced();
    device.forget({0, device.sectors()});
    const StrangeSectors strange = journal.strange_sectors(device, true);
    SectorSet wrong = strange.foreign;
    wrong.add(strange.unreadable);
    if (!wrong.empty())
      throw Error(
          ErrorCode::device_write,
          (strange.unreadable.empty() ? "the device gives back something else than was written to "
                                      : "the device doesn't give back what was written to ") +
              wrong.ranges().front().text(),
          {.subject = device.identity().path, .sector = wrong.ranges().front().first});
    SectorSet written;
    for (const WrittenRange& w : journal.writes()) written.add(w.range);
    require_as_recorded(run, before, journal);
    JobResult result = compare_with(run, before, written);
    require_not_replaced();
    result.written = journal.writes();
    return result;
  } catch (const std::exception& cause) {
    const Error e = as_error(cause);
    if (!run.folder.still_there()) put_back_without_case(device, journal, run.folder);
    run.folder.log("not compared", e);
    const std::string name = as_argument(run.folder.file("").parent_path().string());
    throw Error(ErrorCode::not_compared,
                "the rewrite is done, but what it left was not compared: " + e.message(), e.place(),
                fmt::format("Run 'nuvrat resume {}' to compare, or 'nuvrat revert {}' to go back",
                            name, name));
  }
}

void require_layout(const Layout& wanted, const TableReading& reading, const char* where) {
  // A volume without a table: what its boot sector holds where a table would be says nothing.
  if (wanted.kind == TableKind::none && wanted.partitions.empty()) return;
  if (reading.layout == wanted && !has_errors(reading.findings)) return;
  std::string text = fmt::format("{} the table does not read as planned", where);
  for (const Finding& f : reading.findings) text += "; " + f.text;
  throw Error(ErrorCode::guard, text, {}, "This is a mistake in Nuvrat: please report it");
}

}  // namespace nuvrat::job

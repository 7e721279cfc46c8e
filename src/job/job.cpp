#include <algorithm>
#include <filesystem>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/text.h>

#include "disk/known_manifest.h"
#include "job/case.h"
#include "job/clock.h"
#include "job/left_behind.h"
#include "job/steps.h"
#include "json/manifest_file.h"
#include "tree/comparer.h"
#include "tree/places.h"

namespace nuvrat::job {
namespace {

// Parts of files that the device doesn't give, where they are to stay: only with the owner's word.
void require_readable(const Manifest& before, const Assessment& assessment,
                      const JobOptions& options) {
  std::string names;
  std::uint64_t count = 0;
  const auto add = [&](const std::string& name, const std::vector<ByteRange>& parts) {
    if (parts.empty() || ++count > 5) return;
    names += fmt::format("{}{} at offset {} ({} bytes)", names.empty() ? "" : ", ", name,
                         parts[0].offset, parts[0].length);
  };
  const Expectation expectation = assessment.expectation();
  const auto goes = [&expectation](const auto& part) {
    return !expectation.start_after(part.start);
  };
  for (const ManifestVolume& v : before.volumes) {
    if (goes(v)) continue;
    for (const auto& [id, parts] : v.unreadable)
      add(part_name(v.number) + "/" + v.tree.path(id), parts);
  }
  for (const ManifestRange& r : before.ranges) {
    if (!goes(r)) add(part_name(r.number), r.unreadable);
  }
  const auto add_place = [&](const std::string& name, const std::string& reason) {
    if (++count > 5) return;
    names += fmt::format("{}{}: {}", names.empty() ? "" : ", ", name, reason);
  };
  for (const ManifestVolume& v : before.volumes) {
    if (goes(v)) continue;
    for (const LeftOut& l : v.left_out) add_place(part_name(v.number) + "/" + l.path, l.reason);
  }
  for (const ManifestRange& r : before.ranges) {
    if (!r.fault.empty() && !goes(r) && !expectation.opens(r.start))
      add_place(part_name(r.number), r.fault);
  }
  if (count == 0 || options.accept_unreadable) return;
  throw refused(
      fmt::format("{} can't be read in full: {}{}",
                  plural(count, "file, folder or range", "files, folders or ranges"), names,
                  count > 5 ? ", …" : ""),
      "Nothing was written. before.manifest in the case names them all; to go on all the same, "
      "and expect the same damage afterwards, pass --accept-unreadable");
}

Error recorded_wrongly(const std::string& subject, const std::string& path) {
  return {ErrorCode::device_read,
          "what was recorded was read a second time, and differs",
          {.subject = subject, .path = path},
          "Nothing was written. Check memory, cable and adapter, then begin anew"};
}

// A record with a wrong bit would stop the way back. What is deleted isn't read again once the job
// is done, and a volume of another kind may be too coarse to show the difference: these are read
// twice.
void require_recorded_right(const Run& run, const Manifest& before) {
  const auto& [device, assessment, options, folder, progress] = run;
  const Expectation expectation = assessment.expectation();
  std::vector<unsigned> gone;
  for (const ManifestVolume& v : before.volumes) {
    if (!expectation.start_after(v.start)) gone.push_back(v.number);
    const bool changes =
        std::any_of(assessment.steps.begin(), assessment.steps.end(), [&v](const Step& step) {
          return step.volume() != nullptr && step.volume()->anew &&
                 step.volume()->place.first == v.start;
        });
    if (!changes) continue;
    const Window window(device, {v.start, v.sectors});
    const auto reader = open_volume(window, options.read);
    if (reader == nullptr) throw recorded_wrongly(part_name(v.number), "");
    if (const FileTree::Id id = tree::first_difference(v.tree, reader->tree());
        id != FileTree::none)
      throw recorded_wrongly(part_name(v.number), v.tree.path(id));
  }
  for (const ManifestRange& r : before.ranges) {
    if (!expectation.start_after(r.start)) gone.push_back(r.number);
  }
  if (gone.empty()) return;
  const Comparison c =
      disk::verify_recorded(tree::Recording(before), device, options.read, progress, gone)
          .comparison;
  if (!c.equal())
    throw recorded_wrongly(part_name(c.differences.front().number), c.differences.front().path);
}

// The first sectors of each partition hold what tells its volume from others.
SectorSet witnesses_of(const Layout& before, const Rehearsal& rehearsal) {
  constexpr std::uint64_t each = 8;
  constexpr std::size_t most = 32;
  SectorSet out;
  for (const Partition& p : before.data_partitions()) {
    out.add({p.start, std::min(each, p.sectors)});
    if (out.count() > each * most) break;
  }
  if (out.empty()) {  // a volume without a table: more than one physical sector of it
    out.add({0, std::min(8 * each, before.disk_sectors)});
    const std::uint64_t last = std::min(each, before.disk_sectors);
    out.add({before.disk_sectors - last, last});
  }
  out.remove(rehearsal.written());
  return out;
}

void check_rehearsed(const Run& run, const Rehearsal& rehearsal) {
  const Assessment& assessment = run.assessment;
  for (std::size_t i = 0; i < assessment.steps.size(); ++i) {
    const Step* step = &assessment.steps[i];
    if (step->volume() == nullptr) continue;
    const SectorRange place = step->volume()->place;
    // Every disk on the way is a whole one. Of many steps of one kind the last is looked at.
    const Step* next = i + 1 < assessment.steps.size() ? step + 1 : nullptr;
    if (next != nullptr && next->volume() != nullptr && next->volume()->place == place &&
        next->code() == step->code())
      continue;
    run.progress.stage("checking", 0);
    const Findings findings = check_volume(Window(*rehearsal.after[i], place), run.options.read);
    // What Nuvrat makes anew breaks no rule, however small; what it mends, none that wasn't broken.
    const bool made = step->volume()->anew;
    const auto worst = std::find_if(findings.begin(), findings.end(), [&](const Finding& f) {
      if (!made && find_code(assessment.findings, f.code) != nullptr) return false;
      return f.severity == Severity::error || (made && f.severity == Severity::warning);
    });
    if (worst == findings.end()) continue;
    throw Error(
        ErrorCode::guard,
        fmt::format("the rehearsed volume is not sound: {}: {}", name_of(worst->code), worst->text),
        worst->place, "Nothing was written. This is a mistake in Nuvrat: please report it");
  }
}

void compare_rehearsed(const Run& run, const Rehearsal& rehearsal, tree::Recording& recorded) {
  const auto& [device, assessment, options, folder, progress] = run;
  const SectorSet written = rehearsal.written();
  const Expectation expectation = assessment.expectation();
  const Device& rehearsed = *rehearsal.after.back();
  Manifest after = disk::take_known_manifest(rehearsed, options.read, progress,
                                             {.doing = "rehearsing", .proof = options.proof},
                                             {recorded, written, expectation});
  tree::hash_unsettled(recorded, device, after, rehearsed, {expectation, written, progress});
  const Comparison comparison =
      tree::compare_with_changes(recorded, after, AccessTimes::compared, expectation);
  if (comparison.equal()) return;
  const Difference& first = comparison.differences.front();
  throw Error(ErrorCode::guard,
              fmt::format("the rehearsal lost something: {} ({})", first.text, name_of(first.kind)),
              {.subject = part_name(first.number), .path = first.path},
              "Nothing was written. This is a mistake in Nuvrat: please report it");
}

void require_room(const Case& folder, std::uint64_t needed, const std::string& or_else = "") {
  if (needed <= folder.room()) return;
  throw refused(
      fmt::format(
          "the way back may take {}, but the case folder's disk has {} free: {} are missing",
          format_bytes(needed), format_bytes(folder.room()), format_bytes(needed - folder.room())),
      "Nothing was written. Name a case folder on a disk with more room" + or_else);
}

// The journal with the plan in it, and the manifest of what comes out of the job.
void require_room(const Run& run, const Rehearsal& rehearsal) {
  const auto& [device, assessment, options, folder, progress] = run;
  const json::CasePlan plan = Case::plan_of(assessment, options);
  const std::uint64_t others = plan.text.size() + plan.blobs.size() +
                               std::filesystem::file_size(folder.file("before.manifest"));
  const std::uint64_t live = others + rehearsal.journal_bytes(device, Undo::live);
  std::string or_else;
  if (options.undo == Undo::full && live <= folder.room()) {
    or_else = fmt::format(
        "; or say --undo live, which needs {}: what was free space then doesn't come back as it "
        "was",
        format_bytes(live));
  }
  require_room(folder, others + rehearsal.journal_bytes(device, options.undo), or_else);
}

struct Rehearsed {
  tree::Recording before;
  Rehearsal steps;
};

// Everything that comes before the first write.
Rehearsed record_and_rehearse(const Run& run, JobClock& clock) {
  const auto& [device, assessment, options, folder, progress] = run;
  Manifest before =
      take_manifest(device, options.read, progress, {.doing = "recording", .proof = options.proof});
  const bool by_places = options.proof == Proof::places;
  std::string seal;
  if (!by_places || !before.whole())
    seal = json::save_private_manifest(before, folder.file("before.manifest"));
  folder.log("recorded", fmt::format("{} files, {} bytes, {}", before.files(), before.bytes(),
                                     by_places ? std::string("by their places") : "seal " + seal));
  require_recorded_right(run, before);
  expect(assessment.expectation(), before);
  require_readable(before, assessment, options);
  clock.begin(JobClock::rehearsing);
  progress.stage("rehearsing", 0);
  tree::Recording recorded = tree::Recording::put_aside(std::move(before), folder.file(""));
  Rehearsal rehearsal = rehearse_steps(device, assessment, 0);
  check_rehearsed(run, rehearsal);
  compare_rehearsed(run, rehearsal, recorded);
  if (by_places) {  // what moves was hashed only now: the disk won't have it there any more
    const Manifest settled = recorded.bring_back();
    json::save_private_manifest(settled, folder.file("before.manifest"));
    require_readable(settled, assessment, options);
  }
  require_room(run, rehearsal);
  return {std::move(recorded), std::move(rehearsal)};
}

// The case of a job that may begin. Since the disk was assessed its owner has thought about it.
Case open_case_for(Device& device, const Assessment& assessment, const JobOptions& options) {
  device.refresh();
  require_undisturbed(device);
  if (!assessment.in_reach())
    throw refused(assessment.obstacles.front().text, assessment.obstacles.front().remedy);
  if (assessment.steps.empty()) throw refused("there is nothing to do", "Assess the disk again");
  if (disk_tag(device, read_table(device)) != assessment.tag) {
    throw refused("the disk is not the one that was assessed, or it changed since",
                  "Assess it again");
  }
  Case folder = Case::create(options.case_folder, device, options.case_in_memory);
  folder.save(assessment, options);
  // Before hours of reading, as far as it is known by then.
  if (options.undo == Undo::full)
    require_room(folder, assessment.sectors_to_write * device.sector_size(),
                 "; or try --undo live, which keeps only what live structures held: what was free "
                 "space then doesn't come back as it was");
  return folder;
}

}  // namespace

JobResult run_in_case(const Run& asked) {
  JobClock clock(asked.progress, asked.assessment, asked.options.proof);
  const Run run = asked.told(clock);
  const auto& [device, assessment, options, folder, progress] = run;
  Rehearsed job = record_and_rehearse(run, clock);
  folder.log("rehearsed");
  if (const std::uint64_t kept = keep_left_behind(run, job.before); kept > 0)
    folder.log("left behind", fmt::format("{} items", kept));
  require_room(run, job.steps);
  job.steps.make_ready(device);
  // A journal that is there already is of a try that wrote nothing.
  const auto path = folder.file("undo.journal");
  const json::CasePlan plan = Case::plan_of(assessment, options);
  Journal journal =
      std::filesystem::exists(path)
          ? Journal::open(path)
          : Journal::create(path, device, options.undo,
                            {.plan = plan.text,
                             .blobs = plan.blobs,
                             .witnesses = witnesses_of(assessment.before, job.steps)});
  clock.begin(JobClock::writing);
  const bool from_medium = do_steps(run, 0, job.steps, journal);
  clock.begin(JobClock::comparing);
  JobResult result = compare_done(run, job.before, journal);
  clock.finish();
  result.from_medium &= from_medium;
  return result;
}

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

RehearsalResult rehearse_job(Device& device, const Assessment& assessment,
                             const JobOptions& options, Progress& progress) {
  Case folder = open_case_for(device, assessment, options);
  JobClock clock(progress, assessment, options.proof, JobClock::recording, JobClock::rehearsing);
  try {
    const Rehearsed job = record_and_rehearse({device, assessment, options, folder, clock}, clock);
    clock.finish();
    folder.log(only_rehearsed, "nothing was written, as wanted");
    return {job.before.files(),
            job.before.bytes(),
            job.before.ranges().size(),
            job.steps.written().count(),
            folder.seconds(),
            job.steps.journal_bytes(device, options.undo),
            options.proof};
  } catch (const std::exception& cause) {
    const Error e = ending(cause, folder);
    folder.log("ended", e);
    throw e;
  }
}

JobResult run_job(Device& device, const Assessment& assessment, const JobOptions& options) {
  QuietProgress quiet;
  return run_job(device, assessment, options, quiet);
}

JobResult run_job(Device& device, const Assessment& assessment, const JobOptions& options,
                  Progress& progress) {
  require_writable(device);
  Case folder = open_case_for(device, assessment, options);
  try {
    return run_in_case({device, assessment, options, folder, progress});
  } catch (const std::exception& cause) {
    const Error e = ending(cause, folder);
    folder.log("ended", e);
    throw e;
  }
}

}  // namespace nuvrat

// Going back: what a job wrote is put back from its journal, and compared.

#include <fstream>
#include <optional>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>
#include <nuvrat/text.h>

#include "base/descriptor.h"
#include "base/memory.h"
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

// What was recorded before the job against this disk; none where the case holds no record.
std::optional<Comparison> compare_with_recorded(const Device& disk, const CaseFile& job,
                                                const Case& folder, Progress& progress) {
  if (!folder.has("before.manifest")) return std::nullopt;
  tree::Recording recorded =
      tree::Recording::put_aside(load_manifest(folder.file("before.manifest")), folder.file(""));
  base::give_back_memory();
  return disk::verify_recorded(std::move(recorded), disk, job.options.read, progress).comparison;
}

// The way back, played through: nothing is written unless every file will be there again. Sectors
// that the job gave up without writing them (old places of what it moved, an old FAT) are
// in no journal, and may have been used since: only reading tells. What the job made
// anew is in the journal, which was held against the disk before.
std::optional<Comparison> rehearse_way_back(const Device& device, const CaseFile& job,
                                            Journal& journal, const Case& folder,
                                            Progress& progress) {
  Overlay back(device);
  QuietProgress quiet;
  journal.put_back(back, quiet, Journal::Note::none);
  std::optional<Comparison> out = compare_with_recorded(back, job, folder, progress);
  if (!out) return out;
  if (out->equal()) {
    require_sound_volumes(back, job);
    return out;
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
    out.compared = compare_with_recorded(device, job, folder, progress);
    if (!out.compared) out.not_compared = "the case holds no record of the files";
  } catch (const std::exception& cause) {
    out.not_compared = as_error(cause).message();
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
  require_undisturbed(device);
  if (!job.copy) folder.log("reverting", name_of(stage));
  try {
    journal.put_back(device, progress, job.copy ? Journal::Note::none : Journal::Note::both);
  } catch (const std::exception& cause) {
    const Error e = as_error(cause);
    if (!job.copy) folder.log("cut off", e);
    throw Error(ErrorCode::cut_off, "the way back was cut off: " + e.message(), e.place(),
                fmt::format("Neither use the disk nor write to it; run 'nuvrat revert {}' again",
                            as_argument(job.folder.string())));
  }
  if (!job.copy) folder.log("reverted");
  device.reread_table();
  if (out.compared) return;
  if (options.compare)
    compare_put_back(device, job, folder, progress, out);
  else
    out.not_compared = "it was not asked for";
}

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
  for (const auto& beside : base::entries_of(own.parent_path())) {
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

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

RevertResult revert_case(Device& device, const CaseFile& job, const RevertOptions& options,
                         Progress& progress) {
  require_begun(job);
  device.refresh();
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

}  // namespace nuvrat

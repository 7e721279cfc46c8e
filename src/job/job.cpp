#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/job.h>

#include "job/case.h"

namespace nuvrat {
namespace {

Error refused(const std::string& text, const std::string& remedy) {
  return {ErrorCode::refused, text, {}, remedy};
}

// What the disk says now against what the assessment promised.
void require_layout(const Layout& wanted, const TableReading& reading, const char* where) {
  if (reading.layout == wanted && !has_errors(reading.findings)) return;
  std::string text = fmt::format("{} the table does not read as planned", where);
  for (const Finding& f : reading.findings) text += "; " + f.text;
  throw Error(ErrorCode::guard, text, {}, "This is a mistake in Nuvrat: please report it");
}

// Every step on an overlay: the writes of each, and the proof that nothing is lost.
std::vector<Inspection> rehearse(Device& device, const Assessment& assessment,
                                 const Manifest& before, const JobOptions& options,
                                 Progress& progress) {
  Overlay overlay(device);
  std::vector<Inspection> inspections;
  for (const Step& step : assessment.steps) {
    const auto rewrite = make_rewrite(step);
    inspections.push_back(Engine::inspect(*rewrite, overlay, owned_sectors));
    require_layout(step.target, read_table(overlay), "in the rehearsal");
  }
  const SectorSet written = overlay.written();
  const KnownManifest known{before, written};
  const Manifest after = take_manifest(overlay, options.read, progress, {}, &known);
  const Comparison comparison = compare(before, after);
  if (!comparison.equal()) {
    const Difference& first = comparison.differences.front();
    throw Error(
        ErrorCode::guard,
        fmt::format("the rehearsal lost something: {} ({})", first.text, name_of(first.kind)),
        {fmt::format("p{}", first.number), {}, {}, first.path},
        "Nothing was written. This is a mistake in Nuvrat: please report it");
  }
  return inspections;
}

JobResult run_recorded(Device& device, const Assessment& assessment, const JobOptions& options,
                       Progress& progress, Case& folder) {
  const Manifest before = take_manifest(device, options.read, progress);
  save_manifest(before, folder.file("before.manifest"));
  folder.log("recorded", fmt::format("{} files, {} bytes, seal {}", before.files(), before.bytes(),
                                     before.seal()));
  if (before.unreadable_files() > 0) {
    throw refused(
        fmt::format("{} files have parts that the device does not give", before.unreadable_files()),
        "See before.manifest in the case folder for which");
  }
  progress.stage("rehearsing", 0);
  const std::vector<Inspection> inspections =
      rehearse(device, assessment, before, options, progress);
  folder.log("rehearsed");

  JobResult result;
  for (std::size_t i = 0; i < assessment.steps.size(); ++i) {
    const auto rewrite = make_rewrite(assessment.steps[i]);
    folder.log("step", rewrite->name());
    Engine(device, progress).run(*rewrite, inspections[i]);
    result.written.insert(result.written.end(), inspections[i].writes.begin(),
                          inspections[i].writes.end());
  }
  const TableReading table = read_table(device);
  require_layout(assessment.after, table, "after the rewrite");
  folder.log("rewritten");

  const Manifest after = take_manifest(device, options.read, progress);
  save_manifest(after, folder.file("after.manifest"));
  result.comparison = compare(before, after);
  result.findings_after = table.findings;
  result.tag_after = disk_tag(device, table);
  result.files = after.files();
  result.bytes = after.bytes();
  result.ranges = after.ranges.size();
  folder.log("compared", fmt::format("{} differences, seal {}", result.comparison.count,
                                     result.comparison.seal_after));
  return result;
}

}  // namespace

JobResult run_job(Device& device, const Assessment& assessment, const JobOptions& options,
                  Progress& progress) {
  if (!assessment.in_reach()) {
    throw refused(assessment.obstacles.front().text, assessment.obstacles.front().remedy);
  }
  if (disk_tag(device, read_table(device)) != assessment.tag) {
    throw refused("the disk is not the one that was assessed, or it changed since",
                  "Assess it again");
  }
  Case folder = Case::create(options.case_folder, device);
  folder.save_assessment(assessment);
  try {
    return run_recorded(device, assessment, options, progress, folder);
  } catch (const Error& e) {
    folder.log("stopped", e.what());
    throw;
  }
}

}  // namespace nuvrat

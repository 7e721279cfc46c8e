// Verbs that only look, or write files of their own: survey, files, fetch, manifest, assess, check,
// verify.

#include <iostream>
#include <utility>

#include <fmt/core.h>

#include "meant.h"
#include "words.h"

namespace cli {

using namespace nuvrat;

namespace {

// Several disks one after the other, then a line for each. One that can't be read is no reason
// not to read the others.
int each_disk(const std::vector<std::string>& disks, bool json,
              const std::function<int(const std::string& disk, std::string& line)>& one) {
  std::string line;
  if (disks.size() == 1) return one(disks.front(), line);
  int status = done;
  std::string summary;
  for (const std::string& disk : disks) {
    try {
      status = std::max(status, one(disk, line));
    } catch (const Error& e) {
      status = std::max<int>(status, status_of(e));
      line = e.message();
      if (json)
        std::cout << error_json(e, disk);
      else
        std::cout << shown(error_text(e, output_style()));
    }
    if (json) continue;
    std::cout << '\n';
    summary += fmt::format("{}: {}\n", disk, line);
  }
  if (!json) std::cout << "In all\n" << shown(summary);
  return status;
}

LookWords at(const std::string& disk, LookWords look) {
  look.disk = disk;
  return look;
}

}  // namespace

int survey(const SurveyWords& words) {
  const bool json = words.output.json;
  if (words.disks.empty()) {
    const std::vector<MachineDisk> disks = machine_disks();
    std::cout << (json ? machine_json(disks) : shown(machine_text(disks, output_style())));
    return done;
  }
  return each_disk(words.disks, json, [&](const std::string& disk, std::string& line) -> int {
    const auto device = open(at(disk, words.look));
    const Survey result = survey_disk(*device, read_options(words.look));
    std::cout << (json ? survey_json(result) : shown(survey_text(result, output_style())));
    line = survey_line(result);
    return has_errors(result.all_findings()) ? differs : done;
  });
}

int files(const FilesWords& words) {
  const auto device = open(words.look);
  const auto [number, paths] = inside_of(words.words);
  if (paths.size() > 1)
    throw Error(ErrorCode::words, "one folder or file at a time", {},
                "Put a path with blanks into quotes");
  const std::string path = paths.empty() ? "" : paths.front();
  OpenedVolume volume(*device, number, read_options(words.look));
  const std::vector<FileEntry> list = list_files(volume.reader(), path);
  std::cout << (words.output.json ? files_json(volume, path, list)
                                  : shown(files_text(volume, path, list, output_style())));
  return volume.reader().left_out().empty() ? done : differs;
}

int fetch(const FetchWords& words) {
  std::optional<Manifest> recorded;
  if (!words.against.empty()) recorded = load_manifest(words.against);
  check_outputs(words.output, words.look.disk);
  const auto device = open(words.look);
  Inside inside = inside_of(words.words);
  if (inside.paths.empty()) inside.paths.emplace_back();  // all of the volume
  OpenedVolume volume(*device, inside.partition, read_options(words.look));
  FetchOptions wanted;
  wanted.overwrite = words.output.overwrite;
  if (recorded) {
    for (const ManifestVolume& v : recorded->volumes) {
      if (v.start == volume.start()) wanted.recorded = &v;
    }
    if (wanted.recorded == nullptr)
      throw Error(ErrorCode::words, "the manifest has nothing of this volume",
                  {.path = words.against}, "It was recorded of another disk or partition");
  }
  begin_job();
  return with_progress(words.output, [&](Progress& progress, TerminalProgress& terminal) {
    const FetchResult result =
        fetch_files(volume.reader(), inside.paths, words.folder, wanted, progress);
    terminal.finish();
    std::cout << (words.output.json ? fetch_json(volume, result, words.folder)
                                    : shown(fetch_text(volume, result, words.folder,
                                                       recorded.has_value(), output_style())));
    return result.problems.empty() ? done : differs;
  });
}

int manifest(const ManifestWords& words) {
  check_outputs(words.output, words.look.disk);
  const auto device = open(words.look);
  const std::vector<unsigned> numbers = partitions_of(words.partitions);
  const std::string& file = words.output.file;
  return with_progress(words.output, [&](Progress& progress, TerminalProgress& terminal) {
    const Manifest result = take_manifest(*device, read_options(words.look), progress, {numbers});
    std::vector<std::string> left_out;
    if (words.format == "sha256sum") {
      const bool one =
          numbers.size() == 1 || (result.volumes.size() == 1 && result.volumes[0].number == 0);
      left_out = save_sha256sum(result, file, !one);
    } else {
      save_manifest(result, file);
    }
    terminal.finish();
    (file == "-" ? std::cerr : std::cout)
        << (words.output.json ? manifest_json(result)
                              : shown(manifest_text(
                                    result, words.format == "sha256sum" || file == "-" ? "" : file,
                                    output_style())));
    for (const std::string& path : left_out)
      std::cerr << "left out of the sums, with 4 GiB or more of holes: " << printable(path) << '\n';
    return result.whole() && result.disturbance.empty() && left_out.empty() ? done : differs;
  });
}

int assess(const AssessWords& words) {
  require_disk_first("assess", words.look.disk, words.goals);
  const auto device = open(words.look);
  Random random = random_of(words.seed);
  const ReadOptions read = read_options(words.look);
  const bool json = words.output.json;
  if (words.goals.empty()) {
    const std::vector<Assessment> all = assess_all(*device, read, random);
    std::cout << (json ? goals_json(device->identity(), all)
                       : shown(goals_text(device->identity(), all, output_style())));
    return done;
  }
  const Assessment result =
      nuvrat::assess(*device, goals_of(words.goals, words.look), read, random);
  std::cout << (json ? assessment_json(result) : shown(plan_text(result, words.details)));
  return result.in_reach() ? done : refused;
}

int check(CheckWords& words) {
  // Partitions follow the disk that they are of.
  for (const std::string& word : std::exchange(words.disks, {})) {
    if (!words.disks.empty() && is_partition(word))
      words.partitions.push_back(word);
    else
      words.disks.push_back(word);
  }
  if (words.disks.size() > 1 && (words.repair || !words.partitions.empty()))
    throw Error(ErrorCode::words,
                words.repair ? "--repair is for one disk at a time"
                             : "partitions are named of one disk at a time",
                {}, "Name one DISK");
  if (words.repair && !words.partitions.empty())
    throw Error(ErrorCode::words, "--repair looks at the whole disk", {},
                "Leave the partitions out");
  words.look.disk = words.disks.front();
  check_outputs(words.output, words.look.disk);
  if (words.repair) {
    if (const std::optional<int> status = repair(words)) return *status;
    std::cerr << "nothing can be mended as it was asked: nothing was written\n";
  }
  const bool json = words.output.json;
  return each_disk(words.disks, json, [&](const std::string& disk, std::string& line) -> int {
    words.look.disk = disk;
    const auto device = open(words.look);
    Survey result = survey_disk(*device, read_options(words.look), true);
    if (!words.partitions.empty()) result.keep(partitions_of(words.partitions));
    std::cout << (json ? check_json(result) : shown(check_text(result, output_style())));
    line = check_line(result);
    return result.all_findings().empty() && result.not_looked_at().empty() ? done : differs;
  });
}

int verify(const VerifyWords& words) {
  const Manifest recorded = load_manifest(words.against);
  check_outputs(words.output, words.look.disk);
  const auto device = open(words.look);
  ReadOptions read;
  read.zone = Zone::named(words.look.timezone.empty() ? recorded.zone : words.look.timezone);
  read.codepage = words.look.codepage;
  const std::vector<unsigned> numbers = partitions_of(words.partitions);
  return with_progress(words.output, [&](Progress& progress, TerminalProgress& terminal) {
    const auto [current, result] = verify_disk(recorded, *device, read, progress, numbers);
    terminal.finish();
    std::cout << (words.output.json ? comparison_json(result, current)
                                    : shown(comparison_text(result, current, output_style())));
    const bool sure = !result.partial() && current.disturbance.empty();
    return result.equal() && sure ? done : differs;
  });
}

}  // namespace cli

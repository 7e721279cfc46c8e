// Verbs that only look, or write files of their own: survey, files, fetch, manifest, assess, check,
// verify.

#include <iostream>
#include <utility>

#include <fmt/core.h>

#include "words.h"

namespace cli {

using namespace nuvrat;

namespace {

// Several disks one after the other, then a line for each. One that can't be read is no reason
// not to read the others.
int each_disk(Options& options, const std::function<int(Options&, std::string& line)>& one) {
  std::string line;
  options.disk = options.disks.front();
  if (options.disks.size() == 1) return one(options, line);
  int status = done;
  std::string summary;
  for (const std::string& disk : options.disks) {
    options.disk = disk;
    try {
      status = std::max(status, one(options, line));
    } catch (const Error& e) {
      status = std::max<int>(status, status_of(e));
      line = e.message();
      if (options.json)
        std::cout << error_json(e, disk);
      else
        std::cout << shown(error_text(e, output_style()));
    }
    if (options.json) continue;
    std::cout << '\n';
    summary += fmt::format("{}: {}\n", disk, line);
  }
  if (!options.json) std::cout << "In all\n" << shown(summary);
  return status;
}

}  // namespace

int survey(Options& options) {
  if (options.disks.empty()) {
    const std::vector<MachineDisk> disks = machine_disks();
    std::cout << (options.json ? machine_json(disks) : shown(machine_text(disks, output_style())));
    return done;
  }
  return each_disk(options, [](Options& o, std::string& line) -> int {
    const auto device = open(o, false);
    const Survey result = survey_disk(*device, read_options(o));
    std::cout << (o.json ? survey_json(result) : shown(survey_text(result, output_style())));
    line = survey_line(result);
    return has_errors(result.all_findings()) ? differs : done;
  });
}

int files(Options& options) {
  const auto device = open(options, false);
  const unsigned number = take_partition(options);
  if (options.words.size() > 1)
    throw Error(ErrorCode::words, "one folder or file at a time", {},
                "Put a path with blanks into quotes");
  const std::string path = options.words.empty() ? "" : options.words.front();
  OpenedVolume volume(*device, number, read_options(options));
  const std::vector<FileEntry> list = list_files(volume.reader(), path);
  std::cout << (options.json ? files_json(volume, path, list)
                             : shown(files_text(volume, path, list, output_style())));
  return volume.reader().left_out().empty() ? done : differs;
}

int fetch(Options& options) {
  std::optional<Manifest> recorded;
  if (!options.against.empty()) recorded = load_manifest(options.against);
  const auto device = open(options, false);
  const unsigned number = take_partition(options);
  if (options.words.empty())
    throw Error(ErrorCode::words, "no path was given", {},
                "Name files or folders; / is all of them");
  OpenedVolume volume(*device, number, read_options(options));
  FetchOptions wanted;
  wanted.overwrite = options.overwrite;
  if (recorded) {
    for (const ManifestVolume& v : recorded->volumes) {
      if (v.start == volume.start()) wanted.recorded = &v;
    }
    if (wanted.recorded == nullptr)
      throw Error(ErrorCode::words, "the manifest has nothing of this volume",
                  {.path = options.against}, "It was recorded of another disk or partition");
  }
  begin_job();
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const FetchResult result =
        fetch_files(volume.reader(), options.words, options.folder, wanted, progress);
    terminal.finish();
    std::cout << (options.json ? fetch_json(volume, result, options.folder)
                               : shown(fetch_text(volume, result, options.folder,
                                                  recorded.has_value(), output_style())));
    return result.problems.empty() ? done : differs;
  });
}

int manifest(Options& options) {
  const auto device = open(options, false);
  const std::vector<unsigned> numbers = partitions_of(options);
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const Manifest result = take_manifest(*device, read_options(options), progress, {numbers});
    std::vector<std::string> left_out;
    if (options.format == "sha256sum") {
      const bool one =
          numbers.size() == 1 || (result.volumes.size() == 1 && result.volumes[0].number == 0);
      left_out = save_sha256sum(result, options.output, !one);
    } else {
      save_manifest(result, options.output);
    }
    terminal.finish();
    std::ostream& words = options.output == "-" ? std::cerr : std::cout;
    words << (options.json ? manifest_json(result) : shown(manifest_text(result, output_style())));
    for (const std::string& path : left_out)
      std::cerr << "left out of the sums, with 4 GiB or more of holes: " << printable(path) << '\n';
    return result.whole() && result.disturbance.empty() && left_out.empty() ? done : differs;
  });
}

int assess(Options& options) {
  const auto device = open(options, false);
  Random random = random_of(options);
  if (options.words.empty()) {
    const std::vector<Assessment> all = assess_all(*device, read_options(options), random);
    std::cout << (options.json ? goals_json(device->identity(), all)
                               : shown(goals_text(device->identity(), all, output_style())));
    return done;
  }
  const Assessment result =
      nuvrat::assess(*device, goals_of(options), read_options(options), random);
  std::cout << (options.json ? assessment_json(result)
                             : shown(assessment_text(result, output_style())));
  return result.in_reach() ? done : refused;
}

int check(Options& options) {
  // Partitions follow the disk that they are of.
  for (const std::string& word : std::exchange(options.disks, {})) {
    if (!options.disks.empty() && is_partition(word))
      options.words.push_back(word);
    else
      options.disks.push_back(word);
  }
  if (options.disks.size() > 1 && (options.repair || !options.words.empty()))
    throw Error(ErrorCode::words,
                options.repair ? "--repair is for one disk at a time"
                               : "partitions are named of one disk at a time",
                {}, "Name one DISK");
  if (options.repair && !options.words.empty())
    throw Error(ErrorCode::words, "--repair looks at the whole disk", {},
                "Leave the partitions out");
  options.disk = options.disks.front();
  if (options.repair) {
    if (const std::optional<int> status = repair(options)) return *status;
    std::cerr << "nothing can be mended as it was asked: nothing was written\n";
  }
  return each_disk(options, [](Options& o, std::string& line) -> int {
    const auto device = open(o, false);
    Survey result = survey_disk(*device, read_options(o), true);
    if (!o.words.empty()) result.keep(partitions_of(o));
    std::cout << (o.json ? check_json(result) : shown(check_text(result, output_style())));
    line = check_line(result);
    return result.all_findings().empty() && result.not_looked_at().empty() ? done : differs;
  });
}

int verify(Options& options) {
  const Manifest recorded = load_manifest(options.against);
  const auto device = open(options, false);
  ReadOptions read;
  read.zone = Zone::named(options.timezone.empty() ? recorded.zone : options.timezone);
  read.codepage = options.codepage;
  const std::vector<unsigned> numbers = partitions_of(options);
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const auto [current, result] = verify_disk(recorded, *device, read, progress, numbers);
    terminal.finish();
    std::cout << (options.json ? comparison_json(result, current)
                               : shown(comparison_text(result, current, output_style())));
    const bool sure = !result.partial() && current.disturbance.empty();
    return result.equal() && sure ? done : differs;
  });
}

}  // namespace cli

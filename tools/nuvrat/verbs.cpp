#include "verbs.h"

#include <iostream>

#include <fmt/format.h>

#include <nuvrat/nuvrat.h>

#include "terminal.h"

namespace cli {
namespace {

using namespace nuvrat;

std::unique_ptr<Device> open(const Options& options, bool writable) {
  return open_device(options.disk, {writable, options.sector_size});
}

ReadOptions read_options(const Options& options) {
  ReadOptions read;
  read.zone = options.timezone.empty() ? Zone::machine() : Zone::named(options.timezone);
  read.codepage = options.codepage;
  return read;
}

Random random_of(const Options& options) {
  return options.seed ? Random(*options.seed) : Random();
}

std::vector<Goal> goals_of(const Options& options) {
  std::vector<Goal> goals;
  for (const std::string& word : options.words) goals.push_back(parse_goal(word));
  return goals;
}

std::vector<unsigned> partitions_of(const Options& options) {
  std::vector<unsigned> out;
  for (const std::string& word : options.words) {
    const bool number = word.size() > 1 && word.size() < 6 && word[0] == 'p' &&
                        word.find_first_not_of("0123456789", 1) == word.npos;
    if (!number) {
      throw Error(ErrorCode::words, fmt::format("'{}' is not a partition", word), {},
                  "Say p1, p2 …");
    }
    out.push_back(static_cast<unsigned>(std::stoul(word.substr(1))));
  }
  return out;
}

std::string default_case(const Assessment& assessment) {
  std::string stamp = format_time(now()).substr(0, 19);
  for (char& c : stamp) {
    if (c == ':') c = '-';
  }
  return fmt::format("case-{}-{}", assessment.tag, stamp);
}

// The tag that stands for "yes, this disk": from --confirm, or from the person at the terminal.
bool confirmed(const Options& options, const Assessment& assessment) {
  if (!options.confirm.empty()) {
    if (options.confirm == assessment.tag) return true;
    throw Error(ErrorCode::refused, fmt::format("this disk's tag is not {}", options.confirm), {},
                "Nothing was written. Look at the disk again with 'nuvrat survey'");
  }
  if (!has_person()) {
    throw Error(
        ErrorCode::refused, "nobody is here to confirm, and no --confirm was given", {},
        fmt::format("Nothing was written. If this is the disk, pass --confirm {}", assessment.tag));
  }
  return ask(fmt::format(
             "\nType the tag of the disk to go ahead, anything else to leave it as it is: ")) ==
         assessment.tag;
}

}  // namespace

int survey(const Options& options) {
  const auto device = open(options, false);
  const Survey result = survey_disk(*device, read_options(options));
  std::cout << (options.json ? survey_json(result) : survey_text(result, output_style()));
  return has_errors(result.all_findings()) ? differs : done;
}

int manifest(const Options& options) {
  const auto device = open(options, false);
  const std::vector<unsigned> numbers = partitions_of(options);
  TerminalProgress progress(options.json);
  const Manifest result = take_manifest(*device, read_options(options), progress, numbers);
  if (options.format == "sha256sum") {
    const bool one =
        numbers.size() == 1 || (result.volumes.size() == 1 && result.volumes[0].number == 0);
    save_sha256sum(result, options.output, !one);
  } else {
    save_manifest(result, options.output);
  }
  std::cout << (options.json ? manifest_json(result) : manifest_text(result, output_style()));
  return result.unreadable_files() > 0 ? differs : done;
}

int assess(const Options& options) {
  const auto device = open(options, false);
  Random random = random_of(options);
  const Assessment result =
      nuvrat::assess(*device, goals_of(options), read_options(options), random);
  std::cout << (options.json ? assessment_json(result) : assessment_text(result, output_style()));
  return result.in_reach() ? done : refused;
}

int rewrite(const Options& options) {
  const std::vector<Goal> goals = goals_of(options);
  const auto device = open(options, true);
  Random random = random_of(options);
  JobOptions job;
  job.read = read_options(options);
  const Assessment assessment = nuvrat::assess(*device, goals, job.read, random);
  if (!assessment.in_reach()) {
    std::cout << (options.json ? refusal_json(assessment)
                               : assessment_text(assessment, output_style()));
    return refused;
  }
  if (!options.json) std::cout << assessment_text(assessment, output_style()) << std::flush;
  if (!confirmed(options, assessment)) {
    std::cout << "\nThat is not this disk's tag. Nothing was written.\n";
    return refused;
  }
  job.case_folder = options.case_folder.empty() ? default_case(assessment) : options.case_folder;
  catch_signals();
  TerminalProgress progress(options.json);
  const JobResult result = run_job(*device, assessment, job, progress);
  if (options.json) {
    std::cout << job_json(assessment, result);
  } else {
    progress.stage("", 0);
    std::cout << '\n'
              << job_text(assessment, result, output_style()) << "  case     "
              << job.case_folder.string() << '\n';
  }
  return result.sound() ? done : differs;
}

int verify(const Options& options) {
  const Manifest recorded = load_manifest(options.against);
  const auto device = open(options, false);
  ReadOptions read = read_options(options);
  if (options.timezone.empty()) read.zone = Zone::named(recorded.zone);
  TerminalProgress progress(options.json);
  const Manifest current = take_manifest(*device, read, progress);
  const Comparison result = compare(recorded, current);
  std::cout << (options.json ? comparison_json(result, current)
                             : comparison_text(result, current, output_style()));
  return result.equal() ? done : differs;
}

}  // namespace cli

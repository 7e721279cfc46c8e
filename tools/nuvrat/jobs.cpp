// Verbs that may write a disk, and the page: rewrite, check --repair, resume, revert, report.

#include <filesystem>
#include <iostream>

#include <fmt/core.h>

#include "words.h"

namespace cli {

using namespace nuvrat;

namespace {

// The disk, behind a device that fails as --fault says when one was asked for.
struct OpenDisk {
  std::unique_ptr<Device> real;
  std::unique_ptr<FaultDevice> faulty;
  Device& device() { return faulty ? *faulty : *real; }
};

OpenDisk open_for_writing(const Options& options, const std::string& path,
                          const OpenOptions& wanted) {
  OpenDisk out;
  check_outputs(options, path);
  out.real = open_device(path, wanted);
  if (options.fault.empty()) return out;
  if (out.real->identity().kind != nuvrat::DeviceKind::image) {
    throw Error(ErrorCode::words, "--fault is for images: this is a real device", {.path = path},
                "Practise on an image");
  }
  out.faulty = std::make_unique<FaultDevice>(*out.real, parse_fault_plan(options.fault));
  return out;
}

std::string default_case(const Assessment& assessment) {
  std::string stamp = format_time(now()).substr(0, 19);
  for (char& c : stamp) {
    if (c == ':') c = '-';
  }
  return fmt::format("case-{}-{}", assessment.tag, stamp);
}

// What --confirm says must be the disk's tag, where it says anything.
void require_tag(const Options& options, const std::string& tag) {
  if (options.confirm.empty() || options.confirm == tag) return;
  throw Error(ErrorCode::refused, fmt::format("this disk's tag is not {}", options.confirm), {},
              "Nothing was written. Look at the disk again with 'nuvrat survey'");
}

// What would refuse a job whatever its volumes hold, before they are read.
void refuse_early(const Options& options, const Device& device) {
  require_tag(options, disk_tag(device, read_table(device)));
  if (!options.case_folder.empty())
    check_case_folder(options.case_folder, device, options.case_in_memory);
}

// The tag that means "yes, this disk": from --confirm, or from the person at the terminal.
bool confirmed(const Options& options, const std::string& tag) {
  require_tag(options, tag);
  if (!options.confirm.empty()) return true;
  if (!has_person()) {
    throw Error(ErrorCode::refused, "there is no terminal to ask on, and no --confirm was given",
                {},
                fmt::format("Nothing was written. If this is the disk, pass --confirm {}", tag));
  }
  return ask("\nType the tag of the disk to go ahead, anything else to leave it as it is: ") == tag;
}

}  // namespace

namespace {

int show_job(const Options& options, const Assessment& assessment, const JobResult& result,
             TerminalProgress& terminal, const std::string& folder) {
  if (options.json) {
    std::cout << job_json(assessment, result, folder);
  } else {
    terminal.finish();
    std::cout << '\n'
              << shown(job_text(assessment, result, output_style())) << "  case     " << folder
              << '\n';
  }
  return result.sound() ? done : differs;
}

int not_confirmed() {
  std::cout << "\nThat is not this disk's tag. Nothing was written.\n";
  return refused;
}

}  // namespace

namespace {

Proof proof_of(const Options& options) {
  return options.proof == "places" ? Proof::places : Proof::contents;
}

JobOptions job_options(Options& options, const Assessment& assessment) {
  JobOptions job;
  job.read = read_options(options);
  job.undo = options.undo == "live" ? Undo::live : Undo::full;
  job.proof = proof_of(options);
  job.accept_unreadable = options.accept_unreadable;
  job.case_in_memory = options.case_in_memory;
  if (options.case_folder.empty()) options.case_folder = default_case(assessment);
  job.case_folder = options.case_folder;
  return job;
}

}  // namespace

// Shows what is planned, asks, does it, shows the result.
int run_assessed(Options& options, Device& device, const Assessment& assessment) {
  if (!assessment.in_reach()) {
    if (!options.case_folder.empty())
      record_refusal(device, assessment, job_options(options, assessment));
    std::cout << (options.json ? refusal_json(assessment, options.case_folder)
                               : shown(assessment_text(assessment, output_style())));
    return refused;
  }
  if (!options.json)
    std::cout << shown(assessment_text(assessment, output_style(), proof_of(options)))
              << std::flush;
  if (!confirmed(options, assessment.tag)) return not_confirmed();
  const JobOptions job = job_options(options, assessment);
  begin_job();
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const JobResult result = run_job(device, assessment, job, progress);
    return show_job(options, assessment, result, terminal, job.case_folder.string());
  });
}

namespace {

int rehearse(Options& options, const std::vector<Goal>& goals) {
  const auto device = open(options, false);
  refuse_early(options, *device);
  Random random = random_of(options);
  const Assessment assessment = nuvrat::assess(*device, goals, read_options(options), random);
  if (!assessment.in_reach()) {
    std::cout << (options.json ? refusal_json(assessment)
                               : shown(assessment_text(assessment, output_style())));
    return refused;
  }
  if (!options.json)
    std::cout << shown(assessment_text(assessment, output_style(), proof_of(options)))
              << std::flush;
  const JobOptions job = job_options(options, assessment);
  begin_job();
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const RehearsalResult result = rehearse_job(*device, assessment, job, progress);
    terminal.finish();
    std::cout << (options.json ? rehearsal_json(assessment, result, job.case_folder)
                               : "\n" + shown(rehearsal_text(assessment, result, job.case_folder,
                                                             output_style())));
    return int{done};
  });
}

}  // namespace

int rewrite(Options& options) {
  const std::vector<Goal> goals = goals_of(options);
  if (options.rehearse) return rehearse(options, goals);
  OpenDisk disk = open_for_writing(options, options.disk,
                                   {true, options.sector_size, options.physical_sector_size});
  refuse_early(options, disk.device());
  Random random = random_of(options);
  return run_assessed(options, disk.device(),
                      nuvrat::assess(disk.device(), goals, read_options(options), random));
}

namespace {

Unowned unowned_of(const Options& options) {
  return options.unowned == "free"   ? Unowned::free
         : options.unowned == "keep" ? Unowned::keep
                                     : Unowned::leave;
}

}  // namespace

std::optional<int> repair(Options& options) {
  OpenDisk disk = open_for_writing(options, options.disk,
                                   {true, options.sector_size, options.physical_sector_size});
  refuse_early(options, disk.device());
  const Assessment assessment =
      assess_repair(disk.device(), read_options(options), unowned_of(options));
  if (assessment.in_reach() && assessment.steps.empty()) return std::nullopt;
  return run_assessed(options, disk.device(), assessment);
}

namespace {

// A disk that shows an unfinished settle of its own, its case lost.
int resume_disk(const Options& options) {
  OpenDisk disk = open_for_writing(options, options.disk,
                                   {true, options.sector_size, options.physical_sector_size});
  Device& device = disk.device();
  const std::optional<UnfinishedStep> unfinished = find_unfinished(device);
  if (!unfinished) {
    throw Error(ErrorCode::refused, "the disk shows no rewrite that was cut off",
                {.path = options.disk},
                "Name the folder of a case, or a disk of which 'nuvrat survey' says so");
  }
  std::cerr << unfinished->left << '\n';
  if (!confirmed(options, disk_tag(device, read_table(device)))) return not_confirmed();
  begin_job();
  with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    finish_unfinished(device, *unfinished, progress);
    terminal.finish();
    return int{done};
  });
  const Survey result = survey_disk(device, read_options(options));
  std::cout << (options.json ? survey_json(result) : shown(survey_text(result, output_style())));
  return has_errors(result.all_findings()) ? differs : done;
}

struct OpenCase {
  CaseFile file;
  OpenDisk disk;
  CaseStage stage = CaseStage::nothing_written;
  std::string tag;
};

// Opens a case with its disk and says how far the job is.
OpenCase open_case(const Options& options) {
  OpenCase out;
  out.file = load_case(options.disk);
  if (!is_address(out.file.disk.native()))
    out.file.disk = std::filesystem::proximate(out.file.disk);
  if (!options.case_disk.empty()) out.file.disk = options.case_disk;
  out.disk = open_for_writing(options, out.file.disk.string(), out.file.open_options(true));
  out.stage = stage_of(out.file, out.disk.device());
  out.tag = out.file.tag_now(out.disk.device(), out.stage);
  if (!options.json)
    std::cout << shown(case_text(out.file, out.stage, out.tag, output_style())) << std::flush;
  return out;
}

}  // namespace

int resume(Options& options) {
  if (!std::filesystem::is_directory(options.disk)) return resume_disk(options);
  OpenCase job = open_case(options);
  if (!confirmed(options, job.tag)) return not_confirmed();
  begin_job();
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const JobResult result = resume_case(job.disk.device(), job.file, progress);
    return show_job(options, job.file.assessment, result, terminal, options.disk);
  });
}

int revert(Options& options) {
  OpenCase job = open_case(options);
  if (!confirmed(options, job.tag)) return not_confirmed();
  begin_job();
  return with_progress(options, [&](Progress& progress, TerminalProgress& terminal) {
    const RevertResult result =
        revert_case(job.disk.device(), job.file, {options.discard_later_changes}, progress);
    terminal.finish();
    std::cout << (options.json ? revert_json(job.file, result)
                               : "\n" + shown(revert_text(job.file, result, output_style())));
    return int{result.sound() ? done : differs};
  });
}

int report(Options& options) {
  if (options.json == !options.output.empty())
    throw Error(ErrorCode::words, "a report goes to a page or comes as JSON", {},
                "Say -o FILE.html, or --json");
  const CaseFile job = load_case(options.disk);
  check_outputs(options, job.disk.string());
  std::string disk = options.case_disk.empty() ? job.disk.string() : options.case_disk;
  std::unique_ptr<Device> device;
  try {
    device = open_device(disk, job.open_options(false));
  } catch (const Error& e) {
    if (!options.case_disk.empty()) throw;
    std::cerr << "The disk is not at hand (" << e.message()
              << "): the page says what the case alone knows.\n";
  }
  const CaseRecord record = read_record(options.disk, device.get());
  Letterhead letterhead = read_letterhead(letterhead_file());
  if (!options.technician.empty()) letterhead.technician = options.technician;
  if (!options.owner.empty()) letterhead.owner = options.owner;
  if (!options.job.empty()) letterhead.job = options.job;
  if (options.json) {
    std::cout << report_json(record, letterhead);
  } else {
    save_report(record, options.output, letterhead);
    (options.output == "-" ? std::cerr : std::cout)
        << shown(report_text(record, options.output, output_style()));
  }
  return done;
}

}  // namespace cli

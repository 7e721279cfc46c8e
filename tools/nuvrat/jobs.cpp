// Verbs that may write a disk, and the page: rewrite, check --repair, resume, revert, report.

#include <filesystem>
#include <iostream>

#include <fmt/core.h>

#include <nuvrat/fault.h>

#include "meant.h"
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

OpenDisk open_for_writing(const std::string& path, const OpenOptions& wanted,
                          const std::string& fault) {
  OpenDisk out;
  out.real = open_device(path, wanted);
  if (fault.empty()) return out;
  if (out.real->identity().kind != nuvrat::DeviceKind::image) {
    throw Error(ErrorCode::words, "--fault is for images: this is a real device", {.path = path},
                "Practise on an image");
  }
  out.faulty = std::make_unique<FaultDevice>(*out.real, parse_fault_plan(fault));
  return out;
}

std::string default_case(const Assessment& assessment) {
  std::string stamp = format_time(now()).substr(0, 19);
  for (char& c : stamp) {
    if (c == ':') c = '-';
  }
  return fmt::format("case-{}-{}", assessment.tag, stamp);
}

OpenDisk open_for_writing(const LookWords& look, const OutputWords& output,
                          const std::string& fault) {
  check_outputs(output, look.disk);
  return open_for_writing(look.disk, {true, look.sector_size, look.physical_sector_size}, fault);
}

// The word of --confirm must be the disk's tag, where there is one.
void require_tag(const std::string& confirm, const std::string& tag) {
  if (confirm.empty() || says_tag(confirm, tag)) return;
  throw Error(ErrorCode::refused, fmt::format("this disk's tag is not {}", confirm), {},
              "Nothing was written. Look at the disk again with 'nuvrat survey'");
}

// Refusals that hold whatever the volumes hold, before they are read.
void refuse_early(const JobWords& job, const Device& device) {
  require_tag(job.confirm, disk_tag(device, read_table(device)));
  if (!job.folder.empty()) check_case_folder(job.folder, device, job.case_in_memory);
}

// The tag that means "yes, this disk": from --confirm, or from the person at the terminal.
bool confirmed(const std::string& confirm, const std::string& tag) {
  require_tag(confirm, tag);
  if (!confirm.empty()) return true;
  if (!has_person()) {
    throw Error(ErrorCode::refused, "there is no terminal to ask on, and no --confirm was given",
                {},
                fmt::format("Nothing was written. If this is the disk, pass --confirm {}", tag));
  }
  return says_tag(
      ask("\nType the tag of the disk to go ahead, anything else to leave it as it is: "), tag);
}

}  // namespace

namespace {

int show_job(const Assessment& assessment, const JobResult& result, const std::string& folder,
             bool json) {
  if (json) {
    std::cout << job_json(assessment, result, folder);
  } else {
    std::cout << '\n'
              << shown(job_text(assessment, result, folder, output_style())) << "  case     "
              << folder << '\n';
  }
  return result.sound() ? done : differs;
}

int not_confirmed() {
  std::cout << "\nThat is not this disk's tag. Nothing was written.\n";
  return refused;
}

}  // namespace

namespace {

Proof proof_of(const JobWords& words) {
  return words.proof == "places" ? Proof::places : Proof::contents;
}

JobOptions job_options(JobWords& words, const LookWords& look, const Assessment& assessment) {
  JobOptions job;
  job.read = read_options(look);
  job.undo = words.undo == "live" ? Undo::live : Undo::full;
  job.proof = proof_of(words);
  job.accept_unreadable = words.accept_unreadable;
  job.case_in_memory = words.case_in_memory;
  if (words.folder.empty()) words.folder = default_case(assessment);
  job.case_folder = words.folder;
  return job;
}

// Shows what is planned, asks, does it, shows the result. Of rewrite and check --repair.
template <typename Words>
int run_assessed(Words& words, Device& device, const Assessment& assessment) {
  const bool json = words.output.json;
  if (!assessment.in_reach()) {
    if (!words.job.folder.empty())
      record_refusal(device, assessment, job_options(words.job, words.look, assessment));
    std::cout << (json ? refusal_json(assessment, words.job.folder)
                       : shown(plan_text(assessment, words.job.details)));
    return refused;
  }
  if (!json)
    std::cout << shown(plan_text(assessment, words.job.details, proof_of(words.job))) << std::flush;
  if (!confirmed(words.job.confirm, assessment.tag)) return not_confirmed();
  const JobOptions job = job_options(words.job, words.look, assessment);
  begin_job();
  return with_progress(words.output, [&](Progress& progress, TerminalProgress& terminal) {
    const JobResult result = run_job(device, assessment, job, progress);
    terminal.finish();
    return show_job(assessment, result, job.case_folder, json);
  });
}

int rehearse(RewriteWords& words, const std::vector<Goal>& goals) {
  check_outputs(words.output, words.look.disk);
  const auto device = open(words.look);
  refuse_early(words.job, *device);
  Random random = random_of(words.seed);
  const bool json = words.output.json;
  const Assessment assessment = nuvrat::assess(*device, goals, read_options(words.look), random);
  if (!assessment.in_reach()) {
    std::cout << (json ? refusal_json(assessment)
                       : shown(plan_text(assessment, words.job.details)));
    return refused;
  }
  if (!json)
    std::cout << shown(plan_text(assessment, words.job.details, proof_of(words.job))) << std::flush;
  const JobOptions job = job_options(words.job, words.look, assessment);
  begin_job();
  return with_progress(words.output, [&](Progress& progress, TerminalProgress& terminal) {
    const RehearsalResult result = rehearse_job(*device, assessment, job, progress);
    terminal.finish();
    std::cout << (json ? rehearsal_json(assessment, result, job.case_folder)
                       : "\n" + shown(rehearsal_text(assessment, result, job.case_folder,
                                                     output_style())));
    return int{done};
  });
}

}  // namespace

int rewrite(RewriteWords& words) {
  require_disk_first("rewrite", words.look.disk, words.goals);
  const std::vector<Goal> goals = goals_of(words.goals, words.look);
  if (words.rehearse) return rehearse(words, goals);
  OpenDisk disk = open_for_writing(words.look, words.output, words.job.fault);
  refuse_early(words.job, disk.device());
  Random random = random_of(words.seed);
  return run_assessed(words, disk.device(),
                      nuvrat::assess(disk.device(), goals, read_options(words.look), random));
}

namespace {

Unowned unowned_of(const std::string& word) {
  return word == "free" ? Unowned::free : word == "keep" ? Unowned::keep : Unowned::leave;
}

}  // namespace

std::optional<int> repair(CheckWords& words) {
  OpenDisk disk = open_for_writing(words.look, words.output, words.job.fault);
  refuse_early(words.job, disk.device());
  const Assessment assessment =
      assess_repair(disk.device(), read_options(words.look), unowned_of(words.unowned));
  if (assessment.in_reach() && assessment.steps.empty()) return std::nullopt;
  return run_assessed(words, disk.device(), assessment);
}

namespace {

// A disk that shows an unfinished settle of its own, its case lost.
int resume_disk(const ResumeWords& words) {
  LookWords look;
  look.disk = words.of.folder;
  look.sector_size = words.sector_size;
  OpenDisk disk = open_for_writing(look, words.of.output, words.fault);
  Device& device = disk.device();
  const std::optional<UnfinishedStep> unfinished = find_unfinished(device);
  if (!unfinished) {
    throw Error(ErrorCode::refused, "the disk shows no rewrite that was cut off",
                {.path = look.disk},
                "Name the folder of a case, or a disk of which 'nuvrat survey' says so");
  }
  std::cerr << unfinished->left << '\n';
  if (!confirmed(words.confirm, disk_tag(device, read_table(device)))) return not_confirmed();
  begin_job();
  with_progress(words.of.output, [&](Progress& progress, TerminalProgress& terminal) {
    finish_unfinished(device, *unfinished, progress);
    terminal.finish();
    return int{done};
  });
  const Survey result = survey_disk(device, read_options(look));
  std::cout << (words.of.output.json ? survey_json(result)
                                     : shown(survey_text(result, output_style())));
  return has_errors(result.all_findings()) ? differs : done;
}

struct OpenCase {
  CaseFile file;
  OpenDisk disk;
  CaseStage stage = CaseStage::nothing_written;
  std::string tag;
};

// Opens a case with its disk and says how far the job is.
OpenCase open_case(const CaseWords& words, const std::string& fault) {
  OpenCase out;
  out.file = load_case(words.folder);
  if (!is_address(out.file.disk))
    out.file.disk = std::filesystem::proximate(out.file.disk).string();
  if (!words.disk.empty()) out.file.disk = words.disk;
  check_outputs(words.output, out.file.disk);
  out.disk = open_for_writing(out.file.disk, out.file.open_options(true), fault);
  out.stage = stage_of(out.file, out.disk.device());
  out.tag = out.file.tag_now(out.disk.device(), out.stage);
  if (!words.output.json)
    std::cout << shown(case_text(out.file, out.stage, out.tag, output_style())) << std::flush;
  return out;
}

}  // namespace

int resume(const ResumeWords& words) {
  if (!std::filesystem::is_directory(words.of.folder)) return resume_disk(words);
  OpenCase job = open_case(words.of, words.fault);
  // A job that is done is only compared again.
  if (job.stage != CaseStage::finished && !confirmed(words.confirm, job.tag))
    return not_confirmed();
  begin_job();
  return with_progress(words.of.output, [&](Progress& progress, TerminalProgress& terminal) {
    const JobResult result = resume_case(job.disk.device(), job.file, progress);
    terminal.finish();
    return show_job(job.file.assessment, result, words.of.folder, words.of.output.json);
  });
}

int revert(const RevertWords& words) {
  OpenCase job = open_case(words.of, words.fault);
  if (!confirmed(words.confirm, job.tag)) return not_confirmed();
  begin_job();
  return with_progress(words.of.output, [&](Progress& progress, TerminalProgress& terminal) {
    const RevertResult result =
        revert_case(job.disk.device(), job.file, {words.discard_later_changes}, progress);
    terminal.finish();
    std::cout << (words.of.output.json
                      ? revert_json(job.file, result)
                      : "\n" + shown(revert_text(job.file, result, output_style())));
    return int{result.sound() ? done : differs};
  });
}

int report(const ReportWords& words) {
  const OutputWords& output = words.of.output;
  if (output.json == !output.file.empty())
    throw Error(ErrorCode::words, "a report goes to a page or comes as JSON", {},
                "Say -o FILE.html, or --json");
  const CaseFile job = load_case(words.of.folder);
  check_outputs(output, job.disk);
  std::string disk = words.of.disk.empty() ? job.disk : words.of.disk;
  std::unique_ptr<Device> device;
  try {
    device = open_device(disk, job.open_options(false));
  } catch (const Error& e) {
    if (!words.of.disk.empty()) throw;
    std::cerr << "The disk is not at hand (" << e.message()
              << "): the page says what the case alone knows.\n";
  }
  const CaseRecord record = read_record(words.of.folder, device.get());
  Letterhead letterhead = read_letterhead(letterhead_file());
  if (!words.technician.empty()) letterhead.technician = words.technician;
  if (!words.owner.empty()) letterhead.owner = words.owner;
  if (!words.job.empty()) letterhead.job = words.job;
  if (output.json) {
    std::cout << report_json(record, letterhead);
  } else {
    save_report(record, output.file, letterhead);
    (output.file == "-" ? std::cerr : std::cout)
        << shown(report_text(record, output.file, output_style()));
  }
  return done;
}

}  // namespace cli

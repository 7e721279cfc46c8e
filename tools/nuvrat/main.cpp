// nuvrat VERB DISK …: arguments in, the library's answers out.

#include <algorithm>
#include <iostream>
#include <sstream>

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include <nuvrat/nuvrat.h>

#include "terminal.h"
#include "verbs.h"

namespace {

// Help that stays within 80 columns.
class NarrowHelp final : public CLI::Formatter {
 public:
  NarrowHelp() { column_width(24); }
  std::string make_option_desc(const CLI::Option* option) const override {
    return narrow(Formatter::make_option_desc(option));
  }
  std::string make_subcommand(const CLI::App* sub) const override {
    std::stringstream out;
    CLI::detail::format_help(out, sub->get_name(), narrow(sub->get_description()), column_width_);
    return out.str();
  }

 private:
  static std::string narrow(const std::string& text) {
    constexpr std::size_t width = 54;
    std::string out;
    std::size_t column = 0;
    std::istringstream words(text);
    for (std::string word; words >> word;) {
      const std::size_t wide = nuvrat::display_width(word);
      if (column > 0 && column + 1 + wide > width) {
        out += '\n';
        column = 0;
      }
      out += (column > 0 ? " " : "") + word;
      column += (column > 0 ? 1 : 0) + wide;
    }
    return out;
  }
};

CLI::App* add_verb(CLI::App& app, const char* name, const char* text, cli::Options& options) {
  CLI::App* verb = app.add_subcommand(name, text);
  verb->add_option("DISK", options.disk, "An image file or a block device")
      ->required()
      ->type_name(" ");
  verb->add_flag("--json", options.json, "One JSON object instead of text");
  verb->add_option("--sector-size", options.sector_size, "Of an image: 512 or 4096 (512)")
      ->check(CLI::IsMember({512u, 4096u}));
  verb->add_option("--physical-sector-size", options.physical_sector_size,
                   "What the medium writes in one piece, where it says less than is true; of an "
                   "image: 4096 unless told")
      ->type_name("BYTES");
  verb->add_option("--timezone", options.timezone, "Zone of FAT's local times (the machine's)")
      ->type_name("ZONE");
  verb->add_option("--codepage", options.codepage, "OEM code page of FAT's short names (437)")
      ->type_name("NUMBER");
  return verb;
}

void add_seed(CLI::App& verb, cli::Options& options) {
  verb.add_option("--seed", options.seed, "New identities from this number, so that a demo repeats")
      ->type_name("NUMBER");
}

void add_rename(CLI::App& verb, cli::Options& options) {
  verb.add_option("--rename", options.rename,
                  "safe: names that FAT can't spell become others (short for names=safe)")
      ->check(CLI::IsMember({"safe"}))
      ->type_name("RULE");
}

void add_fault(CLI::App& verb, cli::Options& options) {
  verb.add_option("--fault", options.fault,
                  "For rehearsing at the bench: make the disk fail, as in cut=12,keep=some,seed=3")
      ->type_name("PLAN");
  verb.add_flag("--fault-on-a-real-device", options.fault_on_a_real_device,
                "Do that even on a device that is no image");
}

void add_overwrite(CLI::App& verb, cli::Options& options) {
  verb.add_flag("--overwrite", options.overwrite, "Replace output files that exist");
}

void add_events(CLI::App& verb, cli::Options& options) {
  verb.add_option("--events", options.events,
                  "A JSON line for each stage and each step of progress into this file")
      ->type_name("FILE");
  add_overwrite(verb, options);
}

void add_job_options(CLI::App& verb, cli::Options& options) {
  verb.add_option("--case", options.case_folder,
                  "The folder for this job's records (a new one here)")
      ->type_name("FOLDER");
  verb.add_option("--confirm", options.confirm, "The disk's tag: go ahead without asking")
      ->type_name("TAG");
  verb.add_option("--undo", options.undo,
                  "What the undo journal keeps: full, or live sectors only (full)")
      ->check(CLI::IsMember({"full", "live"}));
  verb.add_flag("--case-in-memory", options.case_in_memory,
                "Keep the case even in memory, where the power takes the way back");
  verb.add_flag("--accept-unreadable", options.accept_unreadable,
                "Go on although parts of files can't be read");
  add_events(verb, options);
  add_fault(verb, options);
}

CLI::App* add_case_verb(CLI::App& app, const char* name, const char* text, cli::Options& options) {
  CLI::App* verb = app.add_subcommand(name, text);
  verb->add_option("CASE", options.disk, "The folder of the job")->required()->type_name(" ");
  verb->add_flag("--json", options.json, "One JSON object instead of text");
  verb->add_option("--disk", options.case_disk, "Where the disk is now, if it moved")
      ->type_name("DISK");
  verb->add_option("--confirm", options.confirm, "The disk's present tag: go ahead without asking")
      ->type_name("TAG");
  add_events(*verb, options);
  add_fault(*verb, options);
  return verb;
}

std::string goal_help() {
  std::string out = "Goals:";
  for (const nuvrat::GoalWord& word : nuvrat::goal_words()) {
    const std::string goal = word.subject + "=" + word.choices();
    constexpr std::size_t column = 28;
    // What is longer has its meaning on a line of its own.
    out += fmt::format("\n  {:<{}} {}", goal, column,
                       goal.size() <= column
                           ? word.meaning
                           : fmt::format(" \n{:{}}{}", "", column + 3, word.meaning));
  }
  return out;
}

}  // namespace

namespace {

int run(int argc, char** argv) {
  CLI::App app("Nuvrat rewrites a disk's structures in place and loses nothing.", "nuvrat");
  app.require_subcommand(1);
  app.formatter(std::make_shared<NarrowHelp>());
  app.set_version_flag("--version", std::string("Nuvrat ") + nuvrat::version());
  cli::Options options;

  auto* survey =
      add_verb(app, "survey", "What is on a disk, and anything unusual about it", options);
  auto* check = add_verb(app, "check", "Whether table and volumes are sound", options);
  check->add_option("PART", options.words, "Only these partitions: p1 p5 …")->type_name(" ");
  check->add_flag("--repair", options.repair,
                  "Mend what can be mended with nothing lost, as a job");
  check
      ->add_option("--unowned", options.unowned,
                   "With --repair: clusters that no file has are freed, or kept as files in a "
                   "folder UNOWNED; left alone unless told")
      ->check(CLI::IsMember({"free", "keep"}));
  add_job_options(*check, options);
  auto* manifest = add_verb(app, "manifest", "Record every file with its hash", options);
  manifest->add_option("PART", options.words, "Only these partitions: p1 p5 …")->type_name(" ");
  manifest->add_option("-o,--output", options.output, "The file to write")
      ->required()
      ->type_name("FILE");
  add_events(*manifest, options);
  manifest
      ->add_option("--format", options.format,
                   "nuvrat, or sha256sum for the ordinary checksum program")
      ->check(CLI::IsMember({"nuvrat", "sha256sum"}));
  auto* assess =
      add_verb(app, "assess", "Whether goals can be reached, how, and what is lost", options);
  assess
      ->add_option("GOAL", options.words,
                   "The state wanted, such as table=gpt; none: every goal that makes sense")
      ->type_name(" ");
  assess->footer(goal_help());
  add_seed(*assess, options);
  add_rename(*assess, options);
  auto* rewrite = add_verb(app, "rewrite", "Do it: record, rehearse, rewrite, compare", options);
  rewrite->add_option("GOAL", options.words, "The state wanted, such as table=gpt")
      ->required()
      ->type_name(" ");
  add_job_options(*rewrite, options);
  rewrite->footer(goal_help());
  add_seed(*rewrite, options);
  add_rename(*rewrite, options);
  auto* verify = add_verb(app, "verify", "Hold a disk against a manifest", options);
  verify->add_option("--against", options.against, "The manifest")->required()->type_name("FILE");
  add_events(*verify, options);

  auto* resume = add_case_verb(
      app, "resume", "Finish a rewrite that was cut off: its case, or the disk if the case is lost",
      options);
  resume
      ->add_option("--sector-size", options.sector_size,
                   "Of an image whose case is lost: 512 or 4096 (512)")
      ->check(CLI::IsMember({512u, 4096u}));
  auto* revert = add_case_verb(app, "revert", "Put the disk back as it was before a case", options);
  revert->add_flag("--discard-later-changes", options.discard_later_changes,
                   "Go back although the disk has been written to since");

  auto* report =
      app.add_subcommand("report", "The page that goes to the owner with the disk, from a case");
  report->add_option("CASE", options.disk, "The folder of the job")->required()->type_name(" ");
  report->add_option("-o,--output", options.output, "The HTML file to write")->type_name("FILE");
  add_overwrite(*report, options);
  report->add_flag("--json", options.json, "One JSON object with everything that the case knows");
  report->add_option("--disk", options.case_disk, "Where the disk is now, if it moved")
      ->type_name("DISK");

  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    return app.exit(e) == 0 ? cli::done : cli::bad_words;
  }
  try {
    if (survey->parsed()) return cli::survey(options);
    if (check->parsed()) return cli::check(options);
    if (manifest->parsed()) return cli::manifest(options);
    if (assess->parsed()) return cli::assess(options);
    if (rewrite->parsed()) return cli::rewrite(options);
    if (verify->parsed()) return cli::verify(options);
    if (resume->parsed()) return cli::resume(options);
    if (revert->parsed()) return cli::revert(options);
    if (report->parsed()) return cli::report(options);
    return cli::bad_words;
  } catch (const nuvrat::Error& e) {
    if (options.json) {
      std::cout << nuvrat::error_json(e);
    } else {
      std::cerr << shown(nuvrat::error_text(e, {output_style().width, false}));
    }
    return cli::status_of(e);
  } catch (const std::exception& e) {
    std::cerr
        << "stopped, the machine failed: " << e.what()
        << "\n  what to do: if a case was begun, 'nuvrat resume' on it says where the job is\n";
    return job_begun() ? cli::cut_off : cli::device_failed;
  }
}

}  // namespace

int main(int argc, char** argv) {
  prepare_process();
  const int status = run(argc, argv);
  return finish_output() ? status : std::max<int>(status, cli::device_failed);
}

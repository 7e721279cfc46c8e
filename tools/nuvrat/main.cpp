// nuvrat VERB DISK …: arguments in, the library's answers out.

#include <algorithm>
#include <filesystem>
#include <iostream>
#include <sstream>

#include <CLI/CLI.hpp>
#include <fmt/core.h>

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
  // What an option needs is said when it is missing.
  std::string make_option_opts(const CLI::Option* option) const override {
    const std::string all = Formatter::make_option_opts(option);
    return all.substr(0, all.find(" Needs:"));
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

// `several`: DISK may be named more than once, or not at all.
CLI::App* add_verb(CLI::App& app, const char* name, const char* text, cli::Options& options,
                   const char* several = nullptr) {
  CLI::App* verb = app.add_subcommand(name, text);
  if (several != nullptr)
    verb->add_option("DISK", options.disks, several)->type_name(" ");
  else
    verb->add_option("DISK", options.disk, "An image file, a block device or an NBD address")
        ->required()
        ->type_name(" ");
  verb->add_flag("--json", options.json, "One JSON object instead of text");
  verb->add_option("--sector-size", options.sector_size, "Of an image: 512 or 4096 (512)")
      ->check(CLI::IsMember({512u, 4096u}))
      ->type_name("BYTES");
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

CLI::Option* add_awake(CLI::App& verb, cli::Options& options) {
  return verb.add_flag("--awake", options.awake,
                       "A 'hiberfil.sys' of unknown form: the system was shut down for good");
}

void add_fault(CLI::App& verb, cli::Options& options) {
  verb.add_option("--fault", options.fault,
                  "For practice on an image: make it fail, as in cut=12,keep=some,seed=3")
      ->type_name("PLAN");
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

// `only_with`: the flag without which there is no job.
void add_job_options(CLI::App& verb, cli::Options& options, CLI::Option* only_with = nullptr) {
  const std::size_t before = verb.get_options().size();
  verb.add_option("--case", options.case_folder,
                  "The folder for this job's records (a new one here)")
      ->type_name("FOLDER");
  verb.add_option("--confirm", options.confirm, "The disk's tag: go ahead without asking")
      ->type_name("TAG");
  verb.add_option("--undo", options.undo,
                  "What the undo journal keeps: full, or live sectors only (full)")
      ->check(CLI::IsMember({"full", "live"}))
      ->type_name("WHAT");
  verb.add_option("--proof", options.proof,
                  "How it is known that nothing was lost: contents, every file read before and "
                  "after; or places, only what moves (contents)")
      ->check(CLI::IsMember({"contents", "places"}))
      ->type_name("HOW");
  verb.add_flag("--case-in-memory", options.case_in_memory,
                "Keep the case even in memory, where the power takes the way back");
  verb.add_flag("--accept-unreadable", options.accept_unreadable,
                "Go on although parts of files can't be read");
  add_events(verb, options);
  add_fault(verb, options);
  if (only_with == nullptr) return;
  const std::vector<CLI::Option*> all = verb.get_options();
  for (std::size_t i = before; i < all.size(); ++i) all[i]->needs(only_with);
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

int say(const nuvrat::Error& e, bool json, const cli::Options& options) {
  if (json) {
    std::error_code none;
    const bool has_case = std::filesystem::is_directory(options.case_folder, none);
    std::cout << nuvrat::error_json(e, options.disk, has_case ? options.case_folder : "");
  } else {
    std::cerr << shown(nuvrat::error_text(e, {output_style().width, false}));
  }
  return cli::status_of(e);
}

// What was wrong with the words, and what was most likely meant.
nuvrat::Error words_error(CLI::App& app, int argc, char** argv, const CLI::ParseError& e) {
  std::vector<std::string> verbs;
  for (const CLI::App* verb : app.get_subcommands(nullptr)) verbs.push_back(verb->get_name());
  const auto suggest = [](const std::string& text, const std::string& meant) {
    return nuvrat::Error(nuvrat::ErrorCode::words,
                         text + (meant.empty() ? "" : "; did you mean " + meant + "?"));
  };
  const auto with_remedy = [](const nuvrat::Error& error, const std::string& help) {
    return nuvrat::Error(error.code(), error.message(), {}, "See '" + help + "'");
  };
  const std::string first = argv[1];
  if (!first.starts_with("-") && std::find(verbs.begin(), verbs.end(), first) == verbs.end())
    return with_remedy(suggest(fmt::format("unknown verb '{}'", nuvrat::printable(first)),
                               nuvrat::nearest_word(first, verbs)),
                       "nuvrat --help");
  const auto parsed = app.get_subcommands();
  if (parsed.empty()) return with_remedy(suggest(e.what(), ""), "nuvrat --help");
  const std::string help = "nuvrat " + parsed.front()->get_name() + " --help";
  if (dynamic_cast<const CLI::ExtrasError*>(&e) == nullptr)
    return with_remedy(suggest(e.what(), ""), help);
  std::vector<std::string> names;
  for (const CLI::Option* option : parsed.front()->get_options()) {
    for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
  }
  for (int i = 2; i < argc; ++i) {
    const std::string word = std::string(argv[i]).substr(0, std::string_view(argv[i]).find('='));
    if (word.starts_with("--") && std::find(names.begin(), names.end(), word) == names.end())
      return with_remedy(suggest(fmt::format("unknown option '{}'", nuvrat::printable(word)),
                                 nuvrat::nearest_word(word, names)),
                         help);
  }
  return with_remedy(suggest(e.what(), ""), help);
}

using Options = cli::Options;

// A verb on the command line, and the function that it calls.
struct Verb {
  CLI::App* words;
  int (*run)(Options&);
  bool takes_case = false;
};

Verb survey_verb(CLI::App& app, Options& options) {
  return {add_verb(app, "survey", "What is on a disk, and anything unusual about it", options,
                   "Image files, block devices or NBD addresses; none: the disks of this machine"),
          cli::survey};
}

Verb check_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(
      app, "check", "Whether table and volumes are sound", options,
      "Image files, block devices or NBD addresses; after one, only some partitions: p1 p5 …");
  verb->get_option("DISK")->required();
  CLI::Option* repair = verb->add_flag("--repair", options.repair,
                                       "Mend what can be mended with nothing lost, as a job");
  verb->add_option("--unowned", options.unowned,
                   "With --repair: clusters that no file has are freed, or kept as files in a "
                   "folder UNOWNED; left alone unless told")
      ->check(CLI::IsMember({"free", "keep"}))
      ->type_name("HOW")
      ->needs(repair);
  add_awake(*verb, options)->needs(repair);
  add_job_options(*verb, options, repair);
  return {verb, cli::check};
}

Verb files_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(app, "files", "The files of a volume, read-only", options);
  verb->add_option("PATH", options.words,
                   "The partition, as p2 (none on a disk without a table), then a folder or file")
      ->type_name(" ");
  return {verb, cli::files};
}

Verb fetch_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(app, "fetch", "Copy files and folders out, read-only", options);
  verb->add_option("PATH", options.words, "The partition, as p2, then paths; / is all of it")
      ->required()
      ->type_name(" ");
  verb->add_option("-o,--output", options.folder, "The folder to copy into")
      ->required()
      ->type_name("FOLDER");
  verb->add_option("--against", options.against, "A manifest: each file's hash is held against it")
      ->type_name("FILE");
  add_events(*verb, options);
  return {verb, cli::fetch};
}

Verb manifest_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(app, "manifest", "Record every file with its hash", options);
  verb->add_option("PART", options.words, "Only these partitions: p1 p5 …")->type_name(" ");
  verb->add_option("-o,--output", options.output, "The file to write")
      ->required()
      ->type_name("FILE");
  add_events(*verb, options);
  verb->add_option("--format", options.format,
                   "nuvrat, or sha256sum for the ordinary checksum program")
      ->check(CLI::IsMember({"nuvrat", "sha256sum"}))
      ->type_name("KIND");
  return {verb, cli::manifest};
}

Verb assess_verb(CLI::App& app, Options& options) {
  CLI::App* verb =
      add_verb(app, "assess", "Whether goals can be reached, how, and what is lost", options);
  verb->add_option("GOAL", options.words,
                   "The state wanted, such as table=gpt; none: every goal that makes sense")
      ->type_name(" ");
  verb->footer(goal_help());
  add_seed(*verb, options);
  add_awake(*verb, options);
  return {verb, cli::assess};
}

Verb rewrite_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(app, "rewrite", "Do it: record, rehearse, rewrite, compare", options);
  verb->add_option("GOAL", options.words, "The state wanted, such as table=gpt")
      ->required()
      ->type_name(" ");
  add_job_options(*verb, options);
  verb->add_flag("--rehearse", options.rehearse,
                 "Stop before the first write: record, play it through, compare, keep the case");
  verb->footer(goal_help());
  add_seed(*verb, options);
  add_awake(*verb, options);
  return {verb, cli::rewrite};
}

Verb verify_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_verb(app, "verify", "Hold a disk against a manifest", options);
  verb->add_option("PART", options.words, "Only these partitions: p1 p5 …")->type_name(" ");
  verb->add_option("--against", options.against, "The manifest")->required()->type_name("FILE");
  add_events(*verb, options);
  return {verb, cli::verify};
}

Verb resume_verb(CLI::App& app, Options& options) {
  CLI::App* verb = add_case_verb(
      app, "resume", "Finish a rewrite that was cut off: its case, or the disk if the case is lost",
      options);
  verb->add_option("--sector-size", options.sector_size,
                   "Of an image whose case is lost: 512 or 4096 (512)")
      ->check(CLI::IsMember({512u, 4096u}))
      ->type_name("BYTES");
  return {verb, cli::resume, true};
}

Verb revert_verb(CLI::App& app, Options& options) {
  CLI::App* verb =
      add_case_verb(app, "revert", "Put the disk back as it was before a case", options);
  verb->add_flag("--discard-later-changes", options.discard_later_changes,
                 "Go back although the disk has been written to since");
  return {verb, cli::revert, true};
}

Verb report_verb(CLI::App& app, Options& options) {
  CLI::App* verb =
      app.add_subcommand("report", "The page that goes to the owner with the disk, from a case");
  verb->add_option("CASE", options.disk, "The folder of the job")->required()->type_name(" ");
  verb->add_option("-o,--output", options.output, "The HTML file to write")->type_name("FILE");
  add_overwrite(*verb, options);
  verb->add_option("--technician", options.technician,
                   "Who did the work, and how to be reached; else from nuvrat/letterhead in the "
                   "folder for settings")
      ->type_name("TEXT");
  verb->add_option("--owner", options.owner, "Whose disk it is")->type_name("TEXT");
  verb->add_option("--job", options.job, "The shop's number of the job")->type_name("TEXT");
  verb->add_flag("--json", options.json, "One JSON object with everything that the case knows");
  verb->add_option("--disk", options.case_disk, "Where the disk is now, if it moved")
      ->type_name("DISK");
  return {verb, cli::report, true};
}

int run_verb(const Verb& verb, Options& options) {
  try {
    return verb.run(options);
  } catch (const nuvrat::Error& e) {
    if (verb.takes_case) {  // the disk is the case's affair
      options.case_folder = options.disk;
      options.disk = options.case_disk;
    }
    return say(e, options.json, options);
  } catch (const std::exception& e) {
    std::cerr
        << "stopped, the machine failed: " << e.what()
        << "\n  what to do: if a case was begun, 'nuvrat resume' on it says where the job is\n";
    return job_begun() ? cli::cut_off : cli::device_failed;
  }
}

int run(int argc, char** argv) {
  CLI::App app("Nuvrat rewrites a disk's structures in place and loses nothing.", "nuvrat");
  app.require_subcommand(1);
  app.formatter(std::make_shared<NarrowHelp>());
  app.set_version_flag("--version", std::string("Nuvrat ") + nuvrat::version());
  Options options;
  std::vector<Verb> verbs;
  for (const auto add :
       {survey_verb, check_verb, files_verb, fetch_verb, manifest_verb, assess_verb, rewrite_verb,
        verify_verb, resume_verb, revert_verb, report_verb})
    verbs.push_back(add(app, options));
  if (argc < 2) {
    std::cout << app.help();
    return cli::done;
  }
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);
    const bool json = std::any_of(
        argv + 1, argv + argc, [](const char* word) { return std::string_view(word) == "--json"; });
    return say(words_error(app, argc, argv, e), json, options);
  }
  const auto verb =
      std::find_if(verbs.begin(), verbs.end(), [](const Verb& v) { return v.words->parsed(); });
  return verb == verbs.end() ? cli::bad_words : run_verb(*verb, options);
}

}  // namespace

int main(int argc, char** argv) {
  prepare_process();
  const int status = run(argc, argv);
  return finish_output() ? status : std::max<int>(status, cli::device_failed);
}

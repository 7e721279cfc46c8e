// nuvrat VERB DISK …: arguments in, the library's answers out.

#include <algorithm>
#include <filesystem>
#include <functional>
#include <iostream>
#include <memory>
#include <optional>
#include <sstream>

#include <CLI/CLI.hpp>
#include <fmt/core.h>

#include <nuvrat/columns.h>
#include <nuvrat/nuvrat.h>

#include "meant.h"
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
  // A missing argument of an option is named.
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

void add_disk(CLI::App& verb, cli::LookWords& look) {
  verb.add_option("DISK", look.disk, "An image file, a block device or an NBD address")
      ->required()
      ->type_name(" ");
}

void add_json(CLI::App& verb, cli::OutputWords& output) {
  verb.add_flag("--json", output.json, "One JSON object instead of text");
}

void add_sector_size(CLI::App& verb, unsigned& bytes, const char* text) {
  verb.add_option("--sector-size", bytes, text)
      ->check(CLI::IsMember({512u, 4096u}))
      ->type_name("BYTES");
}

// How a disk is read, and the form of the answer.
void add_look(CLI::App& verb, cli::LookWords& look, cli::OutputWords& output) {
  add_json(verb, output);
  add_sector_size(verb, look.sector_size, "Of an image: 512 or 4096 (512)");
  verb.add_option("--physical-sector-size", look.physical_sector_size,
                  "Physical sector, if the device reports too small a value; of an image 4096 "
                  "unless told")
      ->type_name("BYTES");
  verb.add_option("--timezone", look.timezone, "Zone of FAT's local times (the machine's)")
      ->type_name("ZONE");
  verb.add_option("--codepage", look.codepage, "OEM code page of FAT's short names (437)")
      ->type_name("NUMBER");
}

void add_seed(CLI::App& verb, std::optional<std::uint64_t>& seed) {
  verb.add_option("--seed", seed, "New identities from this number, so that a demo repeats")
      ->type_name("NUMBER");
}

CLI::Option* add_awake(CLI::App& verb, cli::LookWords& look) {
  return verb.add_flag("--awake", look.awake,
                       "A 'hiberfil.sys' of unknown form: the system was shut down for good");
}

void add_fault(CLI::App& verb, std::string& fault) {
  verb.add_option("--fault", fault,
                  "For practice on an image: make it fail, as in cut=12,keep=some,seed=3")
      ->type_name("PLAN");
}

void add_confirm(CLI::App& verb, std::string& confirm, const char* text) {
  verb.add_option("--confirm", confirm, text)->type_name("TAG");
}

void add_details(CLI::App& verb, bool& details) {
  verb.add_flag("--details", details, "The plan with its steps, writes and every consent in full");
}

void add_overwrite(CLI::App& verb, cli::OutputWords& output) {
  verb.add_flag("--overwrite", output.overwrite, "Replace output files that exist");
}

void add_events(CLI::App& verb, cli::OutputWords& output) {
  verb.add_option("--events", output.events,
                  "A JSON line for each stage and each step of progress into this file")
      ->type_name("FILE");
  add_overwrite(verb, output);
}

// `only_with`: the flag without which there is no job.
void add_job_options(CLI::App& verb, cli::JobWords& job, cli::OutputWords& output,
                     CLI::Option* only_with = nullptr) {
  const std::size_t before = verb.get_options().size();
  verb.add_option("--case", job.folder, "The folder for this job's records (a new one here)")
      ->type_name("FOLDER");
  add_confirm(verb, job.confirm, "The disk's tag: go ahead without asking");
  add_details(verb, job.details);
  verb.add_option("--undo", job.undo,
                  "The undo journal keeps all sectors (full) or live ones only (full)")
      ->check(CLI::IsMember({"full", "live"}))
      ->type_name("WHAT");
  verb.add_option("--proof", job.proof,
                  "Verification: 'contents' hashes every file before and after; 'places' hashes "
                  "only what moves (contents)")
      ->check(CLI::IsMember({"contents", "places"}))
      ->type_name("HOW");
  verb.add_flag("--case-in-memory", job.case_in_memory,
                "Allow the case in memory; a power failure then loses the undo data");
  verb.add_flag("--accept-unreadable", job.accept_unreadable,
                "Go on although parts of files can't be read");
  add_events(verb, output);
  add_fault(verb, job.fault);
  if (only_with == nullptr) return;
  const std::vector<CLI::Option*> all = verb.get_options();
  for (std::size_t i = before; i < all.size(); ++i) all[i]->needs(only_with);
}

// Of a verb that goes on with a job.
void add_case(CLI::App& verb, cli::CaseWords& of) {
  verb.add_option("CASE", of.folder, "The folder of the job")->required()->type_name(" ");
  add_json(verb, of.output);
  verb.add_option("--disk", of.disk, "Where the disk is now, if it moved")->type_name("DISK");
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

// The disk and the case that an error is about.
struct About {
  bool json = false;
  std::string disk{};
  std::string folder{};  ///< the case's; it may not be there yet
};

int say(const nuvrat::Error& e, const About& about) {
  if (about.json) {
    std::error_code none;
    const bool has_case = std::filesystem::is_directory(about.folder, none);
    std::cout << nuvrat::error_json(e, about.disk, has_case ? about.folder : "");
  } else {
    std::cerr << shown(nuvrat::error_text(e, {output_style().width, false}));
  }
  return cli::status_of(e);
}

// The words that are wrong, and those that were most likely meant.
nuvrat::Error words_error(CLI::App& app, int argc, char** argv, const CLI::ParseError& e) {
  using nuvrat::Error;
  using nuvrat::ErrorCode;
  std::vector<std::string> verbs;
  for (const CLI::App* verb : app.get_subcommands(nullptr)) verbs.push_back(verb->get_name());
  const std::string first = argv[1];
  const std::vector<std::string> rest(argv + 2, argv + argc);
  if (!first.starts_with("-") && std::find(verbs.begin(), verbs.end(), first) == verbs.end())
    return cli::no_verb(first, rest, verbs);
  const auto parsed = app.get_subcommands();
  if (parsed.empty()) return {ErrorCode::words, e.what(), {}, "See 'nuvrat --help'"};
  const std::string verb = parsed.front()->get_name();
  const std::string help = "See 'nuvrat " + verb + " --help'";
  if (dynamic_cast<const CLI::RequiredError*>(&e) != nullptr) {
    std::vector<std::string> words;
    std::copy_if(rest.begin(), rest.end(), std::back_inserter(words),
                 [](const std::string& word) { return !word.starts_with("-"); });
    return cli::lacking(verb, e.what(), words);
  }
  std::vector<std::string> names;
  for (const CLI::Option* option : parsed.front()->get_options()) {
    for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
    for (const std::string& name : option->get_snames()) names.push_back("-" + name);
  }
  if (dynamic_cast<const CLI::ExtrasError*>(&e) == nullptr)
    return {ErrorCode::words, e.what(), {}, help};
  for (const std::string& said : rest) {
    const std::string word = said.substr(0, said.find('='));
    if (!word.starts_with("-") || std::find(names.begin(), names.end(), word) != names.end())
      continue;
    const std::string text = fmt::format("unknown option '{}'", nuvrat::printable(word));
    if (const std::string meant = cli::option_for(word); !meant.empty())
      return {ErrorCode::words, text, {}, meant};
    const std::string nearest = nuvrat::nearest_word(word, names);
    return {ErrorCode::words,
            nearest.empty() ? text : fmt::format("{}; did you mean {}?", text, nearest),
            {},
            help};
  }
  return {ErrorCode::words, e.what(), {}, help};
}

// A verb on the command line, and what it calls; both share its words.
struct Verb {
  CLI::App* words;
  std::function<int()> run;
  std::function<About()> about;
};

template <typename Words>
Verb verb_of(CLI::App* app, std::shared_ptr<Words> words, int (*run)(Words&)) {
  return {app, [words, run] { return run(*words); },
          [words] {
            const Words& w = *words;
            About out;
            if constexpr (requires { w.of; }) {  // the disk is the case's affair
              out = {w.of.output.json, w.of.disk, w.of.folder};
            } else {
              out = {w.output.json, w.look.disk, ""};
              if constexpr (requires { w.disks; }) {
                if (out.disk.empty() && w.disks.size() == 1) out.disk = w.disks.front();
              }
              if constexpr (requires { w.job.folder; }) out.folder = w.job.folder;
            }
            return out;
          }};
}

Verb survey_verb(CLI::App& app) {
  auto w = std::make_shared<cli::SurveyWords>();
  CLI::App* verb =
      app.add_subcommand("survey", "Show what is on a disk, and anything unusual about it");
  verb->add_option("DISK", w->disks,
                   "Image files, block devices or NBD addresses; none: the disks of this machine")
      ->type_name(" ");
  add_look(*verb, w->look, w->output);
  return verb_of<cli::SurveyWords>(verb, w, [](auto& words) { return cli::survey(words); });
}

Verb check_verb(CLI::App& app) {
  auto w = std::make_shared<cli::CheckWords>();
  CLI::App* verb = app.add_subcommand("check", "Whether table and volumes are sound");
  verb->add_option(
          "DISK", w->disks,
          "Image files, block devices or NBD addresses; after one, only some partitions: p1 p5 …")
      ->type_name(" ")
      ->required();
  add_look(*verb, w->look, w->output);
  CLI::Option* repair =
      verb->add_flag("--repair", w->repair, "Mend what can be mended with nothing lost, as a job");
  verb->add_option("--unowned", w->unowned,
                   "With --repair: clusters that no file has are freed, or kept as files in a "
                   "folder UNOWNED; left alone unless told")
      ->check(CLI::IsMember({"free", "keep"}))
      ->type_name("HOW")
      ->needs(repair);
  add_awake(*verb, w->look)->needs(repair);
  add_job_options(*verb, w->job, w->output, repair);
  return verb_of<cli::CheckWords>(verb, w, cli::check);
}

Verb files_verb(CLI::App& app) {
  auto w = std::make_shared<cli::FilesWords>();
  CLI::App* verb = app.add_subcommand("files", "The files of a volume, read-only");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("PATH", w->words,
                   "The partition, as p2 (none on a disk without a table), then a folder or file")
      ->type_name(" ");
  return verb_of<cli::FilesWords>(verb, w, [](auto& words) { return cli::files(words); });
}

Verb fetch_verb(CLI::App& app) {
  auto w = std::make_shared<cli::FetchWords>();
  CLI::App* verb = app.add_subcommand("fetch", "Copy files and folders out, read-only");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("PATH", w->words,
                   "The partition, as p2 (none on a disk without a table), then paths (none: all "
                   "of it)")
      ->type_name(" ");
  verb->add_option("-o,--output", w->folder, "The folder to copy into")
      ->required()
      ->type_name("FOLDER");
  verb->add_option("--against", w->against, "A manifest: verify each file by its hash there")
      ->type_name("FILE");
  add_events(*verb, w->output);
  return verb_of<cli::FetchWords>(verb, w, [](auto& words) { return cli::fetch(words); });
}

Verb manifest_verb(CLI::App& app) {
  auto w = std::make_shared<cli::ManifestWords>();
  CLI::App* verb = app.add_subcommand("manifest", "Record every file with its hash");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("PART", w->partitions, "Only these partitions: p1 p5 …")->type_name(" ");
  verb->add_option("-o,--output", w->output.file, "The file to write")
      ->required()
      ->type_name("FILE");
  add_events(*verb, w->output);
  verb->add_option("--format", w->format, "nuvrat, or sha256sum for the ordinary checksum program")
      ->check(CLI::IsMember({"nuvrat", "sha256sum"}))
      ->type_name("KIND");
  return verb_of<cli::ManifestWords>(verb, w, [](auto& words) { return cli::manifest(words); });
}

Verb assess_verb(CLI::App& app) {
  auto w = std::make_shared<cli::AssessWords>();
  CLI::App* verb =
      app.add_subcommand("assess", "Whether goals can be reached, how, and what is lost");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("GOAL", w->goals,
                   "The state wanted, such as table=gpt; none: every goal that makes sense")
      ->type_name(" ");
  verb->footer(goal_help());
  add_details(*verb, w->details);
  add_seed(*verb, w->seed);
  add_awake(*verb, w->look);
  return verb_of<cli::AssessWords>(verb, w, [](auto& words) { return cli::assess(words); });
}

Verb rewrite_verb(CLI::App& app) {
  auto w = std::make_shared<cli::RewriteWords>();
  CLI::App* verb = app.add_subcommand("rewrite", "Do it: record, rehearse, rewrite, compare");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("GOAL", w->goals, "The state wanted, such as table=gpt")
      ->required()
      ->type_name(" ");
  add_job_options(*verb, w->job, w->output);
  verb->add_flag("--rehearse", w->rehearse,
                 "Stop before the first write: record, play it through, compare, keep the case");
  verb->footer(goal_help());
  add_seed(*verb, w->seed);
  add_awake(*verb, w->look);
  return verb_of<cli::RewriteWords>(verb, w, cli::rewrite);
}

Verb verify_verb(CLI::App& app) {
  auto w = std::make_shared<cli::VerifyWords>();
  CLI::App* verb = app.add_subcommand("verify", "Compare a disk with a manifest");
  add_disk(*verb, w->look);
  add_look(*verb, w->look, w->output);
  verb->add_option("PART", w->partitions, "Only these partitions: p1 p5 …")->type_name(" ");
  verb->add_option("--against", w->against, "The manifest")->required()->type_name("FILE");
  add_events(*verb, w->output);
  return verb_of<cli::VerifyWords>(verb, w, [](auto& words) { return cli::verify(words); });
}

Verb resume_verb(CLI::App& app) {
  auto w = std::make_shared<cli::ResumeWords>();
  CLI::App* verb = app.add_subcommand(
      "resume", "Finish a rewrite that was cut off: its case, or the disk if the case is lost");
  add_case(*verb, w->of);
  add_confirm(*verb, w->confirm, "The disk's present tag: go ahead without asking");
  add_events(*verb, w->of.output);
  add_fault(*verb, w->fault);
  add_sector_size(*verb, w->sector_size, "Of an image whose case is lost: 512 or 4096 (512)");
  return verb_of<cli::ResumeWords>(verb, w, [](auto& words) { return cli::resume(words); });
}

Verb revert_verb(CLI::App& app) {
  auto w = std::make_shared<cli::RevertWords>();
  CLI::App* verb = app.add_subcommand("revert", "Put the disk back as it was before a case");
  add_case(*verb, w->of);
  add_confirm(*verb, w->confirm, "The disk's present tag: go ahead without asking");
  add_events(*verb, w->of.output);
  add_fault(*verb, w->fault);
  verb->add_flag("--discard-later-changes", w->discard_later_changes,
                 "Go back although the disk has been written to since");
  return verb_of<cli::RevertWords>(verb, w, [](auto& words) { return cli::revert(words); });
}

Verb report_verb(CLI::App& app) {
  auto w = std::make_shared<cli::ReportWords>();
  CLI::App* verb =
      app.add_subcommand("report", "The page that goes to the owner with the disk, from a case");
  add_case(*verb, w->of);
  verb->add_option("-o,--output", w->of.output.file, "The HTML file to write")->type_name("FILE");
  add_overwrite(*verb, w->of.output);
  verb->add_option("--technician", w->technician,
                   "The technician, and how to be reached; else from nuvrat/letterhead in the "
                   "folder for settings")
      ->type_name("TEXT");
  verb->add_option("--owner", w->owner, "Whose disk it is")->type_name("TEXT");
  verb->add_option("--job", w->job, "The shop's number of the job")->type_name("TEXT");
  return verb_of<cli::ReportWords>(verb, w, [](auto& words) { return cli::report(words); });
}

int run_verb(const Verb& verb) {
  try {
    return verb.run();
  } catch (const nuvrat::Error& e) {
    return say(e, verb.about());
  } catch (const std::exception& e) {
    std::cerr
        << "stopped, the machine failed: " << e.what()
        << "\n  what to do: if a case was begun, 'nuvrat resume' on it says where the job is\n";
    return job_begun() ? cli::cut_off : cli::device_failed;
  }
}

// 'nuvrat help', 'nuvrat help rewrite'
int show_help(CLI::App& app, const std::string& verb) {
  for (const CLI::App* each : app.get_subcommands(nullptr)) {
    if (each->get_name() != verb) continue;
    std::cout << each->help(app.get_name());
    return cli::done;
  }
  std::cout << app.help();
  return cli::done;
}

int run(int argc, char** argv) {
  CLI::App app("Nuvrat rewrites a disk's structures in place and loses nothing.", "nuvrat");
  app.require_subcommand(1);
  app.formatter(std::make_shared<NarrowHelp>());
  app.set_version_flag("--version", std::string("Nuvrat ") + nuvrat::version());
  std::vector<Verb> verbs;
  for (const auto add :
       {survey_verb, check_verb, files_verb, fetch_verb, manifest_verb, assess_verb, rewrite_verb,
        verify_verb, resume_verb, revert_verb, report_verb})
    verbs.push_back(add(app));
  if (argc < 2) {
    std::cout << app.help();
    return cli::done;
  }
  try {
    if (std::string_view(argv[1]) == "help") return show_help(app, argc > 2 ? argv[2] : "");
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);
    const bool json = std::any_of(
        argv + 1, argv + argc, [](const char* word) { return std::string_view(word) == "--json"; });
    return say(words_error(app, argc, argv, e), {.json = json});
  }
  const auto verb =
      std::find_if(verbs.begin(), verbs.end(), [](const Verb& v) { return v.words->parsed(); });
  return verb == verbs.end() ? cli::bad_words : run_verb(*verb);
}

}  // namespace

int main(int argc, char** argv) {
  prepare_process();
  const int status = run(argc, argv);
  return finish_output() ? status : std::max<int>(status, cli::device_failed);
}

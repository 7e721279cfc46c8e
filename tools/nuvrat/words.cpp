#include "words.h"

#include <fmt/core.h>

namespace cli {

using namespace nuvrat;

Status status_of(const Error& error) {
  switch (error.code()) {
    case ErrorCode::words:
      return bad_words;
    case ErrorCode::file:
    case ErrorCode::device_read:
    case ErrorCode::device_write:
      return device_failed;
    case ErrorCode::not_compared:
      return differs;
    case ErrorCode::cut_off:
      return cut_off;
    case ErrorCode::refused:
    case ErrorCode::busy:
    case ErrorCode::damaged:
    case ErrorCode::guard:
    case ErrorCode::cancelled:
      return refused;
  }
  return refused;
}

// Progress for a person and, where a file for events was named, for programs.
int with_progress(const Options& options,
                  const std::function<int(Progress&, TerminalProgress&)>& work) {
  TerminalProgress terminal(options.json);
  if (options.events.empty()) return work(terminal, terminal);
  EventLog events(options.events, terminal);
  try {
    const int status = work(events, terminal);
    events.end(status == done ? "done" : "done, with findings or differences", status);
    return status;
  } catch (const Error& e) {
    events.end(e.message(), status_of(e));
    throw;
  }
}

// Places of results are asked before anything is read for hours.
void check_outputs(const Options& options, const std::string& disk) {
  const OutputRules rules{options.overwrite, {disk}};
  if (!options.output.empty()) check_output(options.output, rules);
  if (!options.events.empty()) check_output(options.events, rules);
}

std::unique_ptr<Device> open(const Options& options, bool writable) {
  check_outputs(options, options.disk);
  return open_device(options.disk, {writable, options.sector_size, options.physical_sector_size});
}

ReadOptions read_options(const Options& options) {
  ReadOptions read;
  read.zone = options.timezone.empty() ? Zone::machine() : Zone::named(options.timezone);
  read.codepage = options.codepage;
  read.ignore_unknown_sleep = options.awake;
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

bool is_partition(const std::string& word) {
  return word.size() > 1 && word.size() < 6 && word[0] == 'p' &&
         word.find_first_not_of("0123456789", 1) == word.npos;
}

std::vector<unsigned> partitions_of(const Options& options) {
  std::vector<unsigned> out;
  for (const std::string& word : options.words) {
    if (!is_partition(word)) {
      throw Error(ErrorCode::words, fmt::format("'{}' is not a partition", word), {},
                  "Say p1, p2 …");
    }
    out.push_back(static_cast<unsigned>(std::stoul(word.substr(1))));
  }
  return out;
}

// The partition that the words begin with, taken away; 0: none, a volume without a table.
unsigned take_partition(Options& options) {
  if (options.words.empty() || !is_partition(options.words.front())) return 0;
  const auto number = static_cast<unsigned>(std::stoul(options.words.front().substr(1)));
  options.words.erase(options.words.begin());
  return number;
}

}  // namespace cli

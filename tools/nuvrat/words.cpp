#include "words.h"

#include <algorithm>
#include <iterator>

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

int with_progress(const OutputWords& output,
                  const std::function<int(Progress&, TerminalProgress&)>& work) {
  TerminalProgress terminal(output.json);
  if (output.events.empty()) return work(terminal, terminal);
  EventLog events(output.events, terminal);
  try {
    const int status = work(events, terminal);
    events.end(status == done ? "done" : "done, with findings or differences", status);
    return status;
  } catch (const Error& e) {
    events.end(e.message(), status_of(e));
    throw;
  }
}

void check_outputs(const OutputWords& output, const std::string& disk) {
  const OutputRules rules{output.overwrite, {disk}};
  if (!output.file.empty()) check_output(output.file, rules);
  if (!output.events.empty()) check_output(output.events, rules);
}

std::unique_ptr<Device> open(const LookWords& look) {
  return open_device(look.disk, {false, look.sector_size, look.physical_sector_size});
}

ReadOptions read_options(const LookWords& look) {
  ReadOptions read;
  read.zone = look.timezone.empty() ? Zone::machine() : Zone::named(look.timezone);
  read.codepage = look.codepage;
  read.ignore_unknown_sleep = look.awake;
  return read;
}

std::string plan_text(const Assessment& assessment, bool details, Proof proof) {
  return details ? assessment_details(assessment, output_style(), proof)
                 : assessment_text(assessment, output_style(), proof);
}

Random random_of(std::optional<std::uint64_t> seed) {
  return seed ? Random(*seed) : Random();
}

std::vector<Goal> goals_of(const std::vector<std::string>& words, const LookWords& look) {
  std::vector<Goal> goals;
  goals.reserve(words.size());
  for (const std::string& word : words) {
    // Only a share takes the disk to answer.
    goals.push_back(word.ends_with('%') ? parse_goal_for(word, read_table(*open(look)).layout)
                                        : parse_goal(word));
  }
  return goals;
}

bool is_partition(const std::string& word) {
  return word.size() > 1 && word.size() < 6 && (word[0] == 'p' || word[0] == 'P') &&
         word.find_first_not_of("0123456789", 1) == word.npos;
}

std::vector<unsigned> partitions_of(const std::vector<std::string>& words) {
  std::vector<unsigned> out;
  for (const std::string& word : words) {
    if (!is_partition(word)) {
      throw Error(ErrorCode::words, fmt::format("'{}' is not a partition", word), {},
                  "Say p1, p2 …");
    }
    out.push_back(static_cast<unsigned>(std::stoul(word.substr(1))));
  }
  return out;
}

Inside inside_of(const std::vector<std::string>& said) {
  std::vector<std::string> words = said;
  // "p1/Folder" is "p1 Folder".
  if (!words.empty()) {
    const std::size_t slash = std::min(words.front().find('/'), words.front().size());
    if (const std::string part = words.front().substr(0, slash);
        slash < words.front().size() && is_partition(part)) {
      const std::string path = words.front().substr(slash + 1);
      words.front() = part;
      words.insert(words.begin() + 1, path.empty() ? "/" : path);
    }
  }
  if (words.empty() || !is_partition(words.front())) return {0, words};
  return {static_cast<unsigned>(std::stoul(words.front().substr(1))),
          {words.begin() + 1, words.end()}};
}

}  // namespace cli

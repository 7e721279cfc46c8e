#include "meant.h"

#include <algorithm>
#include <filesystem>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/goal.h>
#include <nuvrat/open.h>
#include <nuvrat/text.h>

namespace cli {

using namespace nuvrat;

namespace {

struct Meaning {
  std::string_view said;
  std::string_view meant;
};

constexpr Meaning verbs_meant[] = {
    {"convert", "rewrite"},
    {"change", "rewrite"},
    {"migrate", "rewrite"},
    {"resize", "rewrite"},
    {"move", "rewrite"},
    {"delete", "rewrite"},
    {"create", "rewrite"},
    {"set", "rewrite"},
    {"do", "rewrite"},
    {"run", "rewrite"},
    {"info", "survey"},
    {"list", "survey"},
    {"show", "survey"},
    {"print", "survey"},
    {"scan", "survey"},
    {"look", "survey"},
    {"disks", "survey"},
    {"status", "survey"},
    {"undo", "revert"},
    {"restore", "revert"},
    {"back", "revert"},
    {"rollback", "revert"},
    {"continue", "resume"},
    {"finish", "resume"},
    {"plan", "assess"},
    {"goals", "assess"},
    {"can", "assess"},
    {"test", "assess"},
    {"repair", "check --repair"},
    {"fix", "check --repair"},
    {"mend", "check --repair"},
    {"ls", "files"},
    {"dir", "files"},
    {"copy", "fetch"},
    {"extract", "fetch"},
    {"get", "fetch"},
    {"cp", "fetch"},
    {"hash", "manifest"},
    {"record", "manifest"},
    {"compare", "verify"},
    {"diff", "verify"},
    {"html", "report"},
    {"page", "report"},
};

constexpr Meaning options_meant[] = {
    {"--dry-run", "--rehearse plays everything through and stops before the first write"},
    {"--simulate", "--rehearse plays everything through and stops before the first write"},
    {"-n", "--rehearse plays everything through and stops before the first write"},
    {"--yes", "--confirm TAG goes ahead without asking; the tag is in 'nuvrat survey'"},
    {"-y", "--confirm TAG goes ahead without asking; the tag is in 'nuvrat survey'"},
    {"--force", "--confirm TAG goes ahead without asking; a refusal can't be overruled"},
    {"-f", "--confirm TAG goes ahead without asking; a refusal can't be overruled"},
    {"--verbose", "--details shows the plan in full, --json all of it"},
    {"-v", "--details shows the plan in full, --json all of it"},
    {"--fix", "'nuvrat check --repair DISK' mends what can be mended with nothing lost"},
    {"--log", "--events FILE writes a line for each stage"},
};

template <std::size_t count>
std::string meaning_of(const Meaning (&all)[count], std::string_view said) {
  const auto it =
      std::find_if(all, all + count, [said](const Meaning& m) { return m.said == said; });
  return it == all + count ? "" : std::string(it->meant);
}

bool is_there(const std::string& path) {
  std::error_code none;
  return is_address(path) || std::filesystem::exists(path, none);
}

std::string command(const std::string& verb, const std::vector<std::string>& words) {
  std::string out = "'nuvrat " + verb;
  for (const std::string& word : words) out += " " + as_argument(word);
  return out + "'";
}

bool is_goal(const std::string& word) {
  try {
    (void)parse_goal(word);
    return true;
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

std::string verb_for(std::string_view word) {
  return meaning_of(verbs_meant, word);
}

std::string option_for(std::string_view option) {
  return meaning_of(options_meant, option);
}

void require_disk_first(const std::string& verb, const std::string& disk,
                        const std::vector<std::string>& goals) {
  if (is_there(disk) || disk.find('=') == disk.npos) return;
  std::vector<std::string> words;
  for (const std::string& word : goals) {
    if (is_there(word)) words.push_back(word);
  }
  if (words.empty()) words.push_back("DISK");
  words.push_back(disk);
  for (const std::string& word : goals) {
    if (!is_there(word)) words.push_back(word);
  }
  throw Error(ErrorCode::words, fmt::format("'{}' is a goal, and the disk comes first", disk), {},
              "Say " + command(verb, words));
}

Error no_verb(const std::string& word, const std::vector<std::string>& rest,
              const std::vector<std::string>& verbs) {
  const std::string text = fmt::format("unknown verb '{}'", printable(word));
  if (const std::string meant = verb_for(word); !meant.empty())
    return {ErrorCode::words, text, {}, "Say " + command(meant, rest)};
  if (is_there(word) || is_goal(word)) {
    const bool goals = is_goal(word) || std::any_of(rest.begin(), rest.end(), is_goal);
    std::vector<std::string> words{word};
    words.insert(words.end(), rest.begin(), rest.end());
    std::stable_partition(words.begin(), words.end(),
                          [](const std::string& w) { return !is_goal(w); });
    if (is_goal(words.front())) words.insert(words.begin(), "DISK");
    return {ErrorCode::words,
            fmt::format("there is no verb in front of '{}'", printable(word)),
            {},
            "Say " + command(goals ? "rewrite" : "survey", words)};
  }
  const std::string nearest = nearest_word(word, verbs);
  return nearest.empty() ? Error(ErrorCode::words, text, {}, "'nuvrat --help' lists the verbs")
                         : Error(ErrorCode::words, text + "; did you mean " + nearest + "?", {},
                                 "Say " + command(nearest, rest));
}

Error lacking(const std::string& verb, const std::string& what,
              const std::vector<std::string>& words) {
  if (what.starts_with("GOAL"))
    return {ErrorCode::words,
            fmt::format("'nuvrat {}' needs a goal, such as table=gpt or p1=ntfs", verb),
            {},
            command("assess", words.empty() ? std::vector<std::string>{"DISK"} : words) +
                " lists the goals in reach"};
  if (what.starts_with("DISK"))
    return {ErrorCode::words,
            fmt::format("'nuvrat {}' needs a disk: an image file or a block device", verb),
            {},
            "'nuvrat survey' alone lists the disks of this machine"};
  if (what.starts_with("CASE"))
    return {ErrorCode::words,
            fmt::format("'nuvrat {}' needs a case: the folder that the job made", verb),
            {},
            "It was named when the job began: case-TAG-TIME, unless told"};
  return {ErrorCode::words, what, {}, "See 'nuvrat " + verb + " --help'"};
}

}  // namespace cli

#pragma once
// Arguments in the library's terms: shared by the verbs.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

#include "terminal.h"
#include "verbs.h"

namespace cli {

/// Progress for a person and, where a file for events was named, for programs.
int with_progress(const OutputWords& output,
                  const std::function<int(nuvrat::Progress&, TerminalProgress&)>& work);
/// Places of results are asked before anything is read for hours.
void check_outputs(const OutputWords& output, const std::string& disk);
/// The disk, to be read.
[[nodiscard]] std::unique_ptr<nuvrat::Device> open(const LookWords& look);

[[nodiscard]] nuvrat::ReadOptions read_options(const LookWords& look);
/// A plan on the screen.
[[nodiscard]] std::string plan_text(const nuvrat::Assessment& assessment, bool details,
                                    nuvrat::Proof proof = nuvrat::Proof::contents);
[[nodiscard]] nuvrat::Random random_of(std::optional<std::uint64_t> seed);
[[nodiscard]] std::vector<nuvrat::Goal> goals_of(const std::vector<std::string>& words,
                                                 const LookWords& look);
[[nodiscard]] bool is_partition(const std::string& word);
/// Throws Error (words) for a word that does not name a partition.
[[nodiscard]] std::vector<unsigned> partitions_of(const std::vector<std::string>& words);

/// A partition, where the words begin with one (0: none, a volume without a table), and the rest.
struct Inside {
  unsigned partition = 0;
  std::vector<std::string> paths;
};
[[nodiscard]] Inside inside_of(const std::vector<std::string>& words);

/// `check --repair` of one disk; none where there is nothing to mend.
[[nodiscard]] std::optional<int> repair(CheckWords& words);

}  // namespace cli

#pragma once
// What arguments mean, in the library's terms: shared by the verbs.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

#include "terminal.h"
#include "verbs.h"

namespace cli {

/// Progress for a person and, where a file for events was named, for programs.
int with_progress(const Options& options,
                  const std::function<int(nuvrat::Progress&, TerminalProgress&)>& work);
/// Places of results are asked before anything is read for hours.
void check_outputs(const Options& options, const std::string& disk);
/// The disk, its outputs asked.
[[nodiscard]] std::unique_ptr<nuvrat::Device> open(const Options& options, bool writable);

[[nodiscard]] nuvrat::ReadOptions read_options(const Options& options);
[[nodiscard]] nuvrat::Random random_of(const Options& options);
[[nodiscard]] std::vector<nuvrat::Goal> goals_of(const Options& options);
[[nodiscard]] bool is_partition(const std::string& word);
/// Throws Error (words) for a word that does not name a partition.
[[nodiscard]] std::vector<unsigned> partitions_of(const Options& options);
/// The partition that the words begin with, taken away; 0: none, a volume without a table.
[[nodiscard]] unsigned take_partition(Options& options);

/// A job that mends what the assessment says; of `check --repair`.
int run_assessed(Options& options, nuvrat::Device& device, const nuvrat::Assessment& assessment);
/// `check --repair` of one disk; none where there is nothing to mend.
[[nodiscard]] std::optional<int> repair(Options& options);

}  // namespace cli

#pragma once
// What each verb does with its arguments; everything else is the library's.

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <nuvrat/error.h>

namespace cli {

/// Exit statuses.
enum Status { done = 0, differs = 1, bad_words = 2, refused = 3, device_failed = 4, cut_off = 5 };

/// The status that goes with an error.
[[nodiscard]] Status status_of(const nuvrat::Error& error);

struct Options {
  std::string disk;
  std::vector<std::string> disks;  ///< of survey and check
  std::vector<std::string> words;  ///< goals, partitions, paths
  bool json = false;
  unsigned sector_size = 0;
  unsigned physical_sector_size = 0;
  std::string timezone;
  bool awake = false;
  unsigned codepage = 437;
  std::optional<std::uint64_t> seed;
  std::string output;
  std::string folder;  ///< that fetch copies into
  std::string format = "nuvrat";
  std::string against;
  std::string case_folder;
  std::string confirm;
  std::string undo = "full";
  std::string proof = "contents";
  bool accept_unreadable = false;
  std::string fault;
  std::string case_disk;
  bool discard_later_changes = false;
  bool repair = false;
  std::string unowned;
  std::string technician, owner, job;  // of the page
  std::string events;
  bool overwrite = false;
  bool case_in_memory = false;
  bool rehearse = false;
};

// The case of a job is in `case_folder` from its beginning on, so that an error can name it.
int survey(Options& options);
int check(Options& options);
int files(Options& options);
int fetch(Options& options);
int manifest(Options& options);
int assess(Options& options);
int rewrite(Options& options);
int verify(Options& options);
int resume(Options& options);
int revert(Options& options);
int report(Options& options);

}  // namespace cli

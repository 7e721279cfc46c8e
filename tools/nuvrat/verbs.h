#pragma once
// Each verb with its arguments; everything else is the library's.

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

// Words that verbs share.

/// How a disk is opened and read.
struct LookWords {
  std::string disk;
  unsigned sector_size = 0;
  unsigned physical_sector_size = 0;
  std::string timezone;
  unsigned codepage = 437;
  bool awake = false;
};
/// Where results go.
struct OutputWords {
  bool json = false;
  std::string file;
  std::string events;
  bool overwrite = false;
};
/// How a job is done. Its case is in `folder` from its beginning on, so that an error can name it.
struct JobWords {
  std::string folder;
  std::string confirm;
  std::string undo = "full";
  std::string proof = "contents";
  bool accept_unreadable = false;
  bool case_in_memory = false;
  std::string fault;
  bool details = false;  ///< of the plan, on the screen before the question
};
/// A job that is there already.
struct CaseWords {
  std::string folder;
  std::string disk;  ///< where it is now, if it moved
  OutputWords output;
};

// Those of each verb.

struct SurveyWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> disks;
};
struct CheckWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> disks;
  std::vector<std::string> partitions;
  bool repair = false;
  std::string unowned;
  JobWords job;
};
struct FilesWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> words;  ///< a partition, then a path
};
struct FetchWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> words;  ///< a partition, then paths
  std::string folder;              ///< that is copied into
  std::string against;
};
struct ManifestWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> partitions;
  std::string format = "nuvrat";
};
struct AssessWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> goals;
  std::optional<std::uint64_t> seed;
  bool details = false;
};
struct RewriteWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> goals;
  std::optional<std::uint64_t> seed;
  bool rehearse = false;
  JobWords job;
};
struct VerifyWords {
  LookWords look;
  OutputWords output;
  std::vector<std::string> partitions;
  std::string against;
};
struct ResumeWords {
  CaseWords of;
  unsigned sector_size = 0;  ///< of an image whose case is lost
  std::string confirm;
  std::string fault;
};
struct RevertWords {
  CaseWords of;
  std::string confirm;
  std::string fault;
  bool discard_later_changes = false;
};
struct ReportWords {
  CaseWords of;
  std::string technician, owner, job;
};

int survey(const SurveyWords& words);
int check(CheckWords& words);
int files(const FilesWords& words);
int fetch(const FetchWords& words);
int manifest(const ManifestWords& words);
int assess(const AssessWords& words);
int rewrite(RewriteWords& words);
int verify(const VerifyWords& words);
int resume(const ResumeWords& words);
int revert(const RevertWords& words);
int report(const ReportWords& words);

}  // namespace cli

#pragma once
// A job run once and recorded, so that a power cut at any moment of it is played and not run anew.

#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

#include "support.h"

namespace support {

/// What a job wrote to the disk, in its order, and what its case held at each of these moments. A
/// process that has lost its power does nothing more: what it leaves is all in here.
class RecordedJob {
 public:
  /// Runs the job on a copy of the disk. Throws what the job throws.
  RecordedJob(const nuvrat::MemoryDevice& original, const nuvrat::Assessment& assessment);

  /// The disk after the whole job.
  [[nodiscard]] const nuvrat::MemoryDevice& result() const { return *result_; }
  /// Physical sectors written by the whole job.
  [[nodiscard]] std::uint64_t sectors() const { return sectors_; }
  /// The disk as the power left it.
  [[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> cut(const nuvrat::FaultPlan& plan) const;
  /// Copies the case as it was when this physical sector was to be written to `job`, which isn't
  /// there. Returns the same number for the same case.
  std::uint64_t copy_case(std::uint64_t sector, const std::filesystem::path& job) const;

 private:
  struct Operation {
    std::uint64_t lba = 0;
    nuvrat::Bytes data;  // none: a flush
  };
  class Recorder;

  void keep_case(const std::filesystem::path& job, std::uint64_t sector);

  Folder folder_{Folder::Where::memory};
  const nuvrat::MemoryDevice& original_;
  std::unique_ptr<nuvrat::MemoryDevice> result_;
  std::uint64_t sectors_ = 0;
  std::vector<Operation> operations_;
  /// By the first physical sector that is written while the case is this one.
  std::map<std::uint64_t, std::filesystem::path> cases_;
  std::string last_case_;
};

}  // namespace support

#pragma once
// The folder that holds one job: docs/formats/case.md.

#include <filesystem>
#include <fstream>

#include <nuvrat/assessment.h>
#include <nuvrat/device.h>
#include <nuvrat/error.h>
#include <nuvrat/job.h>

namespace nuvrat {

[[nodiscard]] inline Error refused(const std::string& text, const std::string& remedy) {
  return {ErrorCode::refused, text, {}, remedy};
}

class Case {
 public:
  /// Makes the folder. Throws Error (refused) when it holds anything already or lies on the disk
  /// that is to be rewritten.
  static Case create(const std::filesystem::path& folder, const Device& device);
  explicit Case(std::filesystem::path folder);

  [[nodiscard]] std::filesystem::path file(const char* name) const { return folder_ / name; }
  [[nodiscard]] bool has(const char* name) const { return std::filesystem::exists(file(name)); }
  void save(const Assessment& assessment, const JobOptions& options) const;
  /// One line of log.jsonl: time, event, and whatever else there is to say.
  void log(const std::string& event, const std::string& detail = "");
  /// The same for what ended a job: what and where, and what would lift it.
  void log(const std::string& event, const Error& error);
  /// A file of the case, whole under its name or not there at all.
  void put(const char* name, const std::string& contents) const;
  /// Bytes free where the folder lies.
  [[nodiscard]] std::uint64_t room() const;

 private:
  std::filesystem::path folder_;
  std::ofstream log_;
};

}  // namespace nuvrat

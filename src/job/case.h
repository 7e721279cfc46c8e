#pragma once
// The folder that holds one job: docs/formats/case.md.

#include <filesystem>
#include <fstream>

#include <nuvrat/assessment.h>
#include <nuvrat/device.h>

namespace nuvrat {

class Case {
 public:
  /// Makes the folder. Throws Error (refused) when it holds anything already or lies on the disk
  /// that is to be rewritten.
  static Case create(const std::filesystem::path& folder, const Device& device);

  [[nodiscard]] std::filesystem::path file(const char* name) const { return folder_ / name; }
  void save_assessment(const Assessment& assessment) const;
  /// One line of log.jsonl: time, event, and whatever else there is to say.
  void log(const std::string& event, const std::string& detail = "");

 private:
  explicit Case(std::filesystem::path folder);
  std::filesystem::path folder_;
  std::ofstream log_;
};

}  // namespace nuvrat

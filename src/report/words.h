#pragma once
// Words that the terminal and the page share.

#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/assessment.h>

namespace nuvrat::report {

/// "GPT", "MBR", "no table".
[[nodiscard]] std::string table_words(TableKind kind);
/// "image file, model, serial …".
[[nodiscard]] std::string device_words(const DeviceIdentity& device);
/// "MBR to GPT, then …".
[[nodiscard]] std::string step_words(const Assessment& assessment);
/// "under a second", "about 40 seconds", "about 3 hours".
[[nodiscard]] std::string time_words(double seconds);
/// "table=gpt p1=ntfs".
[[nodiscard]] std::string goal_words(const Assessment& assessment);
/// "p5 → p3, p6 → p4", or that every partition keeps its number.
[[nodiscard]] std::string number_words(const Assessment& assessment);
/// A volume without a table is drawn as the only partition.
[[nodiscard]] Layout drawn(Layout layout, const Assessment& assessment);
/// The state in which a plan leaves the disk.
struct StateWords {
  std::string reached;  ///< "GPT, boots by UEFI"; empty where something is deleted and no more
  std::string deleted;  ///< "p1, p3 deleted"; or empty
  /// Both in one: "GPT; p1 deleted as agreed".
  [[nodiscard]] std::string with(std::string_view after_deleted = {}) const;
};
[[nodiscard]] StateWords reached_state(const Assessment& assessment);
/// Partitions that go, to follow "nothing was lost": " but p3, deleted as agreed"; or nothing.
[[nodiscard]] std::string deleted_words(const Assessment& assessment);
/// Where a difference is: "p3/TIDES/may.csv", or "p3" for all of it.
[[nodiscard]] std::string place_words(const Difference& difference);
/// What volumes hold once everything is done.
[[nodiscard]] std::vector<Contents> contents_after(const Assessment& assessment);

/// "76 files unchanged, 1 changed as planned, 4 deleted as agreed, 8 new": what became of the files
/// that were recorded.
[[nodiscard]] std::string count_words(const Comparison& comparison);

}  // namespace nuvrat::report

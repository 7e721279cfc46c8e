#pragma once
// Errors: one exception type that says what, where and what to do about it.

#include <cstdint>
#include <exception>
#include <optional>
#include <string>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

enum class ErrorCode {
  words,         ///< the request itself makes no sense (a goal, an option, a file name)
  refused,       ///< it could be dangerous or impossible; nothing was written
  busy,          ///< another program uses the disk; nothing was written
  device_read,   ///< the device did not give a sector
  device_write,  ///< the device did not take a sector
  damaged,       ///< a structure on the disk breaks the rules of its format
  guard,         ///< a planner tried to write over a live structure; nothing was written
  cancelled,     ///< the person said stop
  cut_off,       ///< a rewrite was cut off half way; resume or revert applies
  not_compared,  ///< a rewrite is done, and what it left could not be compared with what was there
  file,          ///< a file beside the disk (manifest, case) could not be read or written
};
/// "cut-off": as JSON and logs have it.
[[nodiscard]] const char* name_of(ErrorCode code);

/// Where: any of a sector (LBA on the device named), a record number, a path.
struct Place {
  std::string subject{};  ///< device, structure or volume: "disk", "p1", "GPT header"
  std::optional<std::uint64_t> sector{};  ///< absolute LBA, in the device's own sectors
  std::optional<std::uint64_t> record{};  ///< index of an entry or record
  std::string path{};                     ///< path in the volume, or of a file beside the disk

  /// "p1, sector 4096, record 3, DATA/X.CSV"; empty when nothing is known.
  [[nodiscard]] std::string text() const;
};

class Error : public std::exception {
 public:
  Error(ErrorCode code, std::string message, Place place = {}, std::string remedy = {});

  [[nodiscard]] ErrorCode code() const { return code_; }
  [[nodiscard]] const std::string& message() const { return message_; }
  [[nodiscard]] const Place& place() const { return place_; }
  [[nodiscard]] const std::string& remedy() const { return remedy_; }
  /// Message, place and remedy in one line.
  [[nodiscard]] const char* what() const noexcept override { return text_.c_str(); }

 private:
  ErrorCode code_;
  std::string message_;
  Place place_;
  std::string remedy_;
  std::string text_;
};

}  // namespace nuvrat

// Hibernated systems: their memory, the table in it too, is newer than the disk. When one wakes up
// it writes by what it remembers, whatever partition was changed meanwhile.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "plan/bystanders.h"
#include "volume/paths.h"

namespace nuvrat::plan {
namespace {

constexpr const char* image_name = "hiberfil.sys";

enum class Image { asleep, awake, unknown };

Image state_of(ByteView head) {
  std::string mark;
  for (const std::uint8_t b : head)
    mark += b >= 'A' && b <= 'Z' ? static_cast<char>(b + 32) : static_cast<char>(b);
  for (const char* asleep : {"hibr", "rstr", "horm", "link", "brkp"}) {
    if (mark == asleep) return Image::asleep;
  }
  return mark == "wake" || all_zero(head) ? Image::awake : Image::unknown;
}

std::string as_text(ByteView head) {
  std::string hex;
  for (const std::uint8_t b : head) hex += fmt::format("{}{:02X}", hex.empty() ? "" : " ", b);
  return hex;
}

Obstacle obstacle_of(unsigned number, const std::string& why, const std::string& remedy) {
  Obstacle out;
  out.code = ObstacleCode::asleep;
  out.text = fmt::format("{}: {}", volume_words(number), why);
  out.remedy = remedy;
  out.partition = number;
  return out;
}

constexpr const char* shut_down =
    "Boot that system, and shut it down for good: hold Shift while choosing to shut down, or turn "
    "its fast start off";

std::optional<Obstacle> look_at(const Device& device, const SurveyedPartition& s,
                                const ReadOptions& options) {
  const unsigned number = s.partition.number;
  const auto would = [](const std::string& what) {
    return "the system on it " + what +
           ": when it wakes, it would overwrite the changed disk by what it remembers";
  };
  try {
    const Window window(device, s.partition.range());
    const auto paths = volume::open_paths(window, options);
    if (paths == nullptr) return std::nullopt;
    const auto image = paths->find(image_name);
    if (!image || image->directory || image->bytes == 0) return std::nullopt;
    const Bytes head = paths->head(image_name, 4);
    switch (state_of(head)) {
      case Image::awake:
        return std::nullopt;
      case Image::asleep:
        return obstacle_of(number, would("is hibernated") + fmt::format(" ('{}')", image->name),
                           shut_down);
      case Image::unknown:
        if (options.ignore_unknown_sleep) return std::nullopt;
        return obstacle_of(number,
                           would("may be hibernated") +
                               fmt::format(" ('{}' begins with {}, which Nuvrat doesn't know)",
                                           image->name, as_text(head)),
                           std::string(shut_down) +
                               "; or, if you know that it was shut down for good, pass --awake");
    }
  } catch (const Error& e) {
    const bool damaged = e.code() == ErrorCode::damaged && has_errors(s.findings);
    if (damaged) return std::nullopt;  // said already
    const bool unread = e.code() == ErrorCode::damaged || e.code() == ErrorCode::device_read ||
                        e.code() == ErrorCode::refused;
    if (!unread) throw;
    return obstacle_of(number,
                       would("may be hibernated") +
                           fmt::format(" ('{}' can't be read: {})", image_name, e.message()),
                       shut_down);
  }
  return std::nullopt;
}

}  // namespace

std::vector<Obstacle> find_asleep(const Device& device, const Survey& survey,
                                  const ReadOptions& options) {
  std::vector<Obstacle> out;
  for (const SurveyedPartition& s : survey.partitions) {
    if (!s.volume || s.partition.range().end() > device.sectors()) continue;
    if (auto obstacle = look_at(device, s, options)) out.push_back(std::move(*obstacle));
  }
  return out;
}

}  // namespace nuvrat::plan

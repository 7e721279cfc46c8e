#include <cstdlib>
#include <filesystem>
#include <fstream>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/report.h>
#include <nuvrat/text.h>

namespace nuvrat {
namespace {

std::string trimmed(const std::string& text) {
  constexpr const char* blanks = " \t\r";
  const std::size_t from = text.find_first_not_of(blanks);
  if (from == std::string::npos) return "";
  return text.substr(from, text.find_last_not_of(blanks) - from + 1);
}

}  // namespace

std::string letterhead_file() {
  const auto folder = [](const char* name) {
    const char* value = std::getenv(name);
    return std::filesystem::path(value == nullptr ? "" : value);
  };
  if (const auto config = folder("XDG_CONFIG_HOME"); !config.empty())
    return config / "nuvrat" / "letterhead";
  if (const auto home = folder("HOME"); !home.empty())
    return home / ".config" / "nuvrat" / "letterhead";
  return {};
}

Letterhead read_letterhead(const std::string& file) {
  Letterhead out;
  std::ifstream in(file);
  std::size_t number = 0;
  for (std::string line; std::getline(in, line);) {
    ++number;
    line = trimmed(line);
    if (line.empty() || line[0] == '#') continue;
    const std::size_t at = line.find('=');
    const std::string name = trimmed(line.substr(0, at));
    std::string* const value = name == "technician" ? &out.technician
                               : name == "owner"    ? &out.owner
                               : name == "job"      ? &out.job
                                                    : nullptr;
    if (at == std::string::npos || value == nullptr)
      throw Error(ErrorCode::file,
                  fmt::format("'{}' is not a line of a letterhead", printable(line)),
                  {.path = fmt::format("{}, line {}", file, number)},
                  "Write technician = NAME, owner = NAME or job = NUMBER");
    *value = trimmed(line.substr(at + 1));
  }
  return out;
}

}  // namespace nuvrat

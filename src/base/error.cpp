#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/bytes.h>
#include <nuvrat/error.h>
#include <nuvrat/finding.h>

namespace nuvrat {

std::string Place::text() const {
  std::string out;
  const auto add = [&out](const std::string& part) {
    if (!out.empty()) out += ", ";
    out += part;
  };
  if (!subject.empty()) add(subject);
  if (sector) add(fmt::format("sector {}", *sector));
  if (record) add(fmt::format("record {}", *record));
  if (!path.empty()) add(path);
  return out;
}

Error::Error(ErrorCode code, std::string message, Place place, std::string remedy)
    : code_(code),
      message_(std::move(message)),
      place_(std::move(place)),
      remedy_(std::move(remedy)) {
  text_ = message_;
  if (const std::string where = place_.text(); !where.empty()) text_ += " (" + where + ")";
  if (!remedy_.empty()) text_ += ". " + remedy_;
}

void throw_overflow(const char* what) {
  throw Error(ErrorCode::damaged, fmt::format("{} leaves the range of 64-bit numbers", what));
}

bool all_zero(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](std::uint8_t b) { return b == 0; });
}

const char* name_of(Severity severity) {
  switch (severity) {
    case Severity::note:
      return "note";
    case Severity::warning:
      return "warning";
    case Severity::error:
      return "error";
  }
  return "error";
}

bool has_errors(const Findings& findings) {
  return std::any_of(findings.begin(), findings.end(),
                     [](const Finding& f) { return f.severity == Severity::error; });
}

const Finding* find_code(const Findings& findings, Rule code) {
  const auto it = std::find_if(findings.begin(), findings.end(),
                               [code](const Finding& f) { return f.code == code; });
  return it == findings.end() ? nullptr : &*it;
}

const char* name_of(ErrorCode code) {
  switch (code) {
    case ErrorCode::words:
      return "words";
    case ErrorCode::refused:
      return "refused";
    case ErrorCode::busy:
      return "busy";
    case ErrorCode::device_read:
      return "device-read";
    case ErrorCode::device_write:
      return "device-write";
    case ErrorCode::damaged:
      return "damaged";
    case ErrorCode::guard:
      return "guard";
    case ErrorCode::cancelled:
      return "cancelled";
    case ErrorCode::cut_off:
      return "cut-off";
    case ErrorCode::not_compared:
      return "not-compared";
    case ErrorCode::file:
      return "file";
  }
  return "refused";
}

}  // namespace nuvrat

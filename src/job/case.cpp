#include "job/case.h"

#include <cerrno>
#include <cstring>
#include <fstream>
#include <optional>
#include <vector>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "assess/json.h"
#include "base/whole_file.h"

namespace nuvrat {
namespace {

// True when `folder` lies on the block device, or on a partition of it.
bool lies_on(const std::filesystem::path& folder, const Device& device) {
  struct stat disk {};
  struct stat place {};
  if (device.identity().kind != "block device" ||
      ::stat(device.identity().path.c_str(), &disk) != 0 || ::stat(folder.c_str(), &place) != 0) {
    return false;
  }
  const auto name = [](dev_t number) {
    std::error_code ignored;
    return std::filesystem::canonical(
        fmt::format("/sys/dev/block/{}:{}", major(number), minor(number)), ignored);
  };
  const auto disk_name = name(disk.st_rdev);
  const auto place_name = name(place.st_dev);
  return !disk_name.empty() && (place_name == disk_name || place_name.parent_path() == disk_name);
}

// A job that was refused wrote nothing but why: the next try may take its place.
bool holds_refusal(const std::filesystem::path& folder) {
  for (const auto& entry : entries_of(folder)) {
    const auto name = entry.filename();
    if (name != "assessment.json" && name != "log.jsonl") return false;
  }
  try {
    return !load_case(folder).assessment.in_reach();
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

Case::Case(std::filesystem::path folder)
    : folder_(std::move(folder)),
      log_(open_file(folder_ / "log.jsonl", O_WRONLY | O_APPEND | O_CREAT | O_NOFOLLOW)) {
  if (!log_.valid()) {
    throw Error(ErrorCode::file,
                fmt::format("the case folder can't be written to: {}", std::strerror(errno)),
                {{}, {}, {}, folder_.string()},
                "Name a folder on another disk that may be written");
  }
}

namespace {

void require_own(const std::filesystem::path& folder) {
  struct stat info {};
  if (::lstat(folder.c_str(), &info) != 0 || info.st_uid == ::geteuid()) return;
  throw Error(ErrorCode::refused, "the case folder is somebody else's",
              {{}, {}, {}, folder.string()}, "A case holds the owner's data: name a new folder");
}

void require_medium(const std::filesystem::path& folder) {
  struct statfs info {};
  constexpr std::uint64_t tmpfs = 0x01021994, ramfs = 0x858458F6;
  if (::statfs(folder.c_str(), &info) != 0) return;
  const auto kind = static_cast<std::uint64_t>(info.f_type) & 0xFFFFFFFF;
  if (kind != tmpfs && kind != ramfs) return;
  throw Error(ErrorCode::refused,
              "the case folder lies in memory: with the power the way back would be gone",
              {{}, {}, {}, folder.string()}, "Name a folder on a disk, or say --case-in-memory");
}

}  // namespace

Case Case::create(const std::filesystem::path& folder, const Device& device, bool in_memory) {
  std::error_code error;
  const std::filesystem::path whole = std::filesystem::absolute(folder, error);
  // Each folder above that is made now is an entry that a cut could lose.
  std::vector<std::filesystem::path> made;
  for (auto at = whole; !at.empty() && !std::filesystem::exists(at); at = at.parent_path())
    made.push_back(at);
  std::filesystem::create_directories(folder, error);
  if (error) {
    throw Error(ErrorCode::file, "the case folder can't be made: " + error.message(),
                {{}, {}, {}, folder.string()}, "Name a folder on another disk that may be written");
  }
  if ((!std::filesystem::is_empty(folder, error) || error) && !holds_refusal(folder)) {
    throw Error(ErrorCode::refused, "the case folder is not empty", {{}, {}, {}, folder.string()},
                "A case holds one job: name a new folder");
  }
  if (lies_on(folder, device)) {
    throw Error(ErrorCode::refused, "the case folder lies on the disk that is to be rewritten",
                {{}, {}, {}, folder.string()}, "Name a folder on another disk");
  }
  require_own(folder);
  if (!in_memory) require_medium(folder);
  std::filesystem::permissions(folder, std::filesystem::perms::owner_all, error);
  for (const auto& each : made) sync_folder(each.parent_path());
  return Case(folder);
}

std::string Case::plan_text(const Assessment& assessment, const JobOptions& options) {
  nlohmann::json json = to_json(assessment);
  json["schema"] = "nuvrat.case/1";
  json["disk"] = std::filesystem::absolute(assessment.device.path).string();
  json["zone"] = options.read.zone.name();
  json["codepage"] = options.read.codepage;
  json["undo"] = options.undo == Undo::full ? "full" : "live";
  json["accept_unreadable"] = options.accept_unreadable;
  return json.dump(2) + "\n";
}

void Case::save(const Assessment& assessment, const JobOptions& options) const {
  put("assessment.json", plan_text(assessment, options));
}

void Case::put(const char* name, const std::string& contents) const {
  write_whole_file(file(name), contents);
}

std::uint64_t Case::room() const {
  std::error_code error;
  const auto space = std::filesystem::space(folder_, error);
  return error ? 0 : space.available;
}

namespace {

CaseFile case_from(const std::filesystem::path& folder, const nlohmann::json& json) {
  if (json.at("schema") != "nuvrat.case/1")
    throw Error(ErrorCode::file, "this case was made by another version");
  CaseFile out;
  out.folder = folder;
  out.disk = json.at("disk").get<std::string>();
  out.assessment = assessment_from_json(json);
  out.options.case_folder = folder;
  out.options.read.zone = Zone::named(json.at("zone").get<std::string>());
  out.options.read.codepage = json.at("codepage");
  out.options.undo = json.at("undo") == "full" ? Undo::full : Undo::live;
  out.options.accept_unreadable = json.at("accept_unreadable");
  return out;
}

}  // namespace

CaseFile load_case(const std::filesystem::path& folder) {
  const auto path = folder / "assessment.json";
  const auto journal_path = folder / "undo.journal";
  std::optional<Journal> journal;
  if (std::filesystem::exists(journal_path)) journal = Journal::open(journal_path);
  std::ifstream in(path);
  if (!in && (!journal || journal->plan().empty())) {
    throw Error(ErrorCode::words, "this is not the folder of a case", {{}, {}, {}, folder.string()},
                "Name the folder that 'nuvrat rewrite' made");
  }
  try {
    nlohmann::json json;
    if (in) json = nlohmann::json::parse(in, nullptr, false);
    // Lost, or not as it was written: the journal has it too.
    if ((!json.is_object() || json.is_discarded()) && journal && !journal->plan().empty())
      json = nlohmann::json::parse(journal->plan());
    if (json.is_discarded()) throw Error(ErrorCode::file, "the case is not as it was written");
    CaseFile out = case_from(folder, json);
    if (journal) out.steps_done = journal->steps_done();
    return out;
  } catch (const Error& e) {
    throw Error(ErrorCode::file, e.message(),
                {{}, {}, {}, e.place().path.empty() ? path.string() : e.place().path});
  } catch (const nlohmann::json::exception& e) {
    throw Error(ErrorCode::file, fmt::format("the case can't be read: {}", e.what()),
                {{}, {}, {}, path.string()});
  }
}

std::size_t count_events(const std::filesystem::path& folder, std::string_view event) {
  std::ifstream in(folder / "log.jsonl");
  std::size_t out = 0;
  for (std::string line; std::getline(in, line);) {
    const nlohmann::json j = nlohmann::json::parse(line, nullptr, false);
    if (j.is_object() && j.contains("event") && j["event"] == event) ++out;
  }
  return out;
}

void Case::append(const std::string& line) const noexcept {
  const auto put = [this](const char* at, std::size_t left) {
    while (left > 0) {
      const ssize_t n = ::write(log_.get(), at, left);
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) return;
      at += n;
      left -= static_cast<std::size_t>(n);
    }
  };
  put(line.data(), line.size());
  (void)::fdatasync(log_.get());
}

namespace {

std::string log_line(const std::string& event, const std::string& detail,
                     const std::string& remedy) {
  nlohmann::json line = {{"time", format_time(now())}, {"event", event}};
  if (!detail.empty()) line["detail"] = printable(detail);
  if (!remedy.empty()) line["remedy"] = printable(remedy);
  return line.dump() + "\n";
}

}  // namespace

void Case::log(const std::string& event, const std::string& detail) const noexcept {
  try {
    append(log_line(event, detail, ""));
  } catch (const std::exception&) {
    return;
  }
}

void Case::log(const std::string& event, const Error& error) const noexcept {
  try {
    const std::string where = error.place().text();
    append(log_line(event, error.message() + (where.empty() ? "" : " (" + where + ")"),
                    error.remedy()));
  } catch (const std::exception&) {
    return;
  }
}

}  // namespace nuvrat

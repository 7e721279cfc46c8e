#include "job/case.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <optional>
#include <vector>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/whole_file.h"

namespace nuvrat::job {
namespace {

// True when `folder` lies on the block device, or on a partition of it.
bool lies_on(const std::filesystem::path& folder, const Device& device) {
  struct stat disk {};
  struct stat place {};
  if (device.identity().kind != DeviceKind::block_device ||
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

// A job that was refused wrote nothing but why, and a rehearsal nothing but what it saw: the next
// try may take its place.
bool holds_only_words(const std::filesystem::path& folder) {
  for (const auto& entry : base::entries_of(folder)) {
    const auto name = entry.filename();
    if (name != "assessment.json" && name != "steps.bin" && name != "log.jsonl" &&
        name != "before.manifest")
      return false;
  }
  try {
    const std::vector<CaseEvent> events = json::read_log(folder / "log.jsonl");
    return !load_case(folder).assessment.in_reach() ||
           (!events.empty() && events.back().event == only_rehearsed);
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

Case::Case(std::filesystem::path folder)
    : folder_(std::move(folder)),
      log_(base::open_file(folder_ / "log.jsonl", O_WRONLY | O_APPEND | O_CREAT | O_NOFOLLOW)) {
  if (!log_.valid()) {
    throw Error(ErrorCode::file,
                fmt::format("the case folder can't be written to: {}", std::strerror(errno)),
                {.path = folder_.string()}, "Name a folder on another disk that may be written");
  }
}

namespace {

Error not_private(const std::string& text, const std::filesystem::path& path,
                  const std::string& remedy) {
  return {ErrorCode::refused, text, {.path = path.string()}, remedy};
}

void require_own(const std::filesystem::path& folder) {
  struct stat info {};
  if (::stat(folder.c_str(), &info) != 0 || info.st_uid == ::geteuid()) return;
  throw not_private("the case folder belongs to another user", folder,
                    "A case holds the owner's data: name a new folder");
}

// What another user put there, or a name that leads elsewhere, could turn what is written into the
// case against something else.
void require_plain_files(const std::filesystem::path& folder) {
  for (const std::filesystem::path& path : base::entries_of(folder)) {
    struct stat info {};
    if (::lstat(path.c_str(), &info) != 0) continue;
    const char* what = info.st_uid != ::geteuid() ? "belongs to another user"
                       : S_ISLNK(info.st_mode)    ? "is a symbolic link"
                       : !S_ISREG(info.st_mode) && !S_ISDIR(info.st_mode) ? "is not a file"
                       : S_ISREG(info.st_mode) && info.st_nlink > 1 ? "has a second name elsewhere"
                                                                    : nullptr;
    if (what != nullptr)
      throw not_private(
          fmt::format("'{}' in the case {}: Nuvrat didn't make it so",
                      printable(path.filename().string()), what),
          path, "Nothing was written. Copy the case's files into a new folder, and name that one");
  }
}

// `there`: the folder, or what it will be made in.
void require_medium(const std::filesystem::path& there, const std::filesystem::path& folder) {
  struct statfs info {};
  constexpr std::uint64_t tmpfs = 0x01021994, ramfs = 0x858458F6;
  if (::statfs(there.c_str(), &info) != 0) return;
  const auto kind = static_cast<std::uint64_t>(info.f_type) & 0xFFFFFFFF;
  if (kind != tmpfs && kind != ramfs) return;
  throw Error(ErrorCode::refused,
              "the case folder is in memory: without power the way back is gone",
              {.path = folder.string()}, "Name a folder on a disk, or say --case-in-memory");
}

void check_place(const std::filesystem::path& folder, const Device& device, bool in_memory) {
  if (folder.empty())
    throw Error(ErrorCode::words, "the job has no case folder", {},
                "Name a folder that isn't there yet: the records and the way back go there");
  std::error_code error;
  const std::filesystem::path whole = std::filesystem::absolute(folder, error);
  // Where it isn't there yet, what it would be made in tells.
  std::filesystem::path there = whole;
  while (!std::filesystem::exists(there, error) && there.has_relative_path())
    there = there.parent_path();
  const auto cant_be_made = [&folder](const char* why) {
    return Error(ErrorCode::file, fmt::format("the case folder can't be made: {}", why),
                 {.path = folder.string()}, "Name a folder on another disk that may be written");
  };
  if (!std::filesystem::is_directory(there, error)) throw cant_be_made(std::strerror(ENOTDIR));

  if (there == whole) {
    if ((!std::filesystem::is_empty(folder, error) || error) && !holds_only_words(folder)) {
      throw Error(ErrorCode::refused, "the case folder is not empty", {.path = folder.string()},
                  "A case holds one job: name a new folder");
    }
    require_own(folder);
    require_plain_files(folder);
  }
  if (::access(there.c_str(), W_OK | X_OK) != 0) throw cant_be_made(std::strerror(errno));
  if (lies_on(there, device)) {
    throw Error(ErrorCode::refused, "the case folder is on the disk that is to be rewritten",
                {.path = folder.string()}, "Name a folder on another disk");
  }
  if (!in_memory) require_medium(there, folder);
}

}  // namespace

void require_private(const std::filesystem::path& folder) {
  require_own(folder);
  struct stat info {};
  if (::stat(folder.c_str(), &info) == 0 && (info.st_mode & (S_IWGRP | S_IWOTH)) != 0)
    throw not_private(
        "other users may write into the case folder", folder,
        fmt::format("Nothing was written. Look at what is in it; if all of it is right, "
                    "run chmod 700 {}",
                    as_argument(folder.string())));
  require_plain_files(folder);
  const std::filesystem::path kept = folder / "left-behind";
  std::error_code error;
  if (std::filesystem::is_directory(kept, error)) require_plain_files(kept);
}

Case Case::create(const std::filesystem::path& folder, const Device& device, bool in_memory) {
  check_place(folder, device, in_memory);
  std::error_code error;
  // Each folder above that is made now is an entry that a cut could lose.
  std::vector<std::filesystem::path> made;
  for (auto at = std::filesystem::absolute(folder, error);
       !at.empty() && !std::filesystem::exists(at); at = at.parent_path())
    made.push_back(at);
  std::filesystem::create_directories(folder, error);
  if (error) {
    throw Error(ErrorCode::file, "the case folder can't be made: " + error.message(),
                {.path = folder.string()}, "Name a folder on another disk that may be written");
  }
  std::filesystem::permissions(folder, std::filesystem::perms::owner_all, error);
  for (const auto& each : made) base::sync_folder(each.parent_path());
  return Case(folder);
}

json::CasePlan Case::plan_of(const Assessment& assessment, const JobOptions& options) {
  return json::write_plan(
      assessment, {is_address(assessment.device.path)
                       ? assessment.device.path
                       : std::filesystem::absolute(assessment.device.path).string(),
                   options.read.zone.name(), options.read.codepage, options.undo == Undo::full,
                   options.accept_unreadable, options.proof});
}

void Case::save(const Assessment& assessment, const JobOptions& options) const {
  const json::CasePlan plan = plan_of(assessment, options);
  put("steps.bin", {reinterpret_cast<const char*>(plan.blobs.data()), plan.blobs.size()});
  put("assessment.json", plan.text);
}

void Case::put(const char* name, const std::string& contents) const {
  base::write_whole_file(file(name), contents);
}

bool Case::still_there() const {
  struct stat open {};
  struct stat named {};
  return ::fstat(log_.get(), &open) == 0 && ::lstat(file("log.jsonl").c_str(), &named) == 0 &&
         open.st_dev == named.st_dev && open.st_ino == named.st_ino;
}

std::uint64_t Case::room() const {
  std::error_code error;
  const auto space = std::filesystem::space(folder_, error);
  return error ? 0 : space.available;
}

namespace {

std::string contents_of(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

CaseFile case_from(const std::filesystem::path& folder, const json::CasePlan& plan) {
  json::CaseHead head;
  CaseFile out;
  out.assessment = json::read_plan(plan, head);
  out.folder = folder;
  out.disk = head.disk;
  out.options.case_folder = folder;
  out.options.read.zone = Zone::named(head.zone);
  out.options.read.codepage = head.codepage;
  out.options.undo = head.full_undo ? Undo::full : Undo::live;
  out.options.accept_unreadable = head.accept_unreadable;
  out.options.proof = head.proof;
  return out;
}

// What is lost, or not as it was written: the journal has it too.
CaseFile case_from_either(const std::filesystem::path& folder, const Journal* journal) {
  const std::string blobs = contents_of(folder / "steps.bin");
  const bool in_journal = journal != nullptr && !journal->plan().empty();
  try {
    return case_from(folder,
                     {contents_of(folder / "assessment.json"), Bytes(blobs.begin(), blobs.end())});
  } catch (const Error&) {
    if (!in_journal) throw;
  }
  return case_from(folder, {journal->plan(), journal->blobs()});
}

}  // namespace

std::size_t count_events(const std::filesystem::path& folder, std::string_view event) {
  const std::vector<CaseEvent> events = json::read_log(folder / "log.jsonl");
  return static_cast<std::size_t>(std::count_if(
      events.begin(), events.end(), [event](const CaseEvent& e) { return e.event == event; }));
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

void Case::log(const std::string& event, const std::string& detail) const noexcept {
  try {
    append(json::log_line(event, detail, ""));
  } catch (const std::exception&) {
    return;
  }
}

void Case::log(const std::string& event, const Error& error) const noexcept {
  try {
    const std::string where = error.place().text();
    append(json::log_line(event, error.message() + (where.empty() ? "" : " (" + where + ")"),
                          error.remedy()));
  } catch (const std::exception&) {
    return;
  }
}

}  // namespace nuvrat::job

namespace nuvrat {
using namespace job;

void check_case_folder(const std::string& folder, const Device& device, bool in_memory) {
  check_place(folder, device, in_memory);
  std::error_code none;
  const std::filesystem::path above = std::filesystem::absolute(folder, none).parent_path();
  if (!std::filesystem::exists(above, none))
    throw Error(ErrorCode::words, "the folder that the case is to be in isn't there",
                {.path = above.string()},
                "Make it first, or name a case in a folder that is there");
}

CaseFile load_case(const std::string& named) {
  const std::filesystem::path folder(named);
  require_private(folder);
  const auto path = folder / "assessment.json";
  const auto journal_path = folder / "undo.journal";
  std::optional<Journal> journal;
  if (std::filesystem::exists(journal_path)) journal = Journal::open(journal_path);
  if (!std::filesystem::exists(path) && (!journal || journal->plan().empty())) {
    throw Error(ErrorCode::words, "this is not the folder of a case", {.path = folder.string()},
                "Name the folder that 'nuvrat rewrite' made");
  }
  try {
    CaseFile out = case_from_either(folder, journal ? &*journal : nullptr);
    if (journal) out.steps_done = journal->steps_done();
    return out;
  } catch (const Error& e) {
    throw Error(ErrorCode::file, e.message(),
                {.path = e.place().path.empty() ? path.string() : e.place().path});
  }
}

}  // namespace nuvrat

#include "job/case.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "assess/json.h"

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
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    const auto name = entry.path().filename();
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
    : folder_(std::move(folder)), log_(folder_ / "log.jsonl", std::ios::app) {
  if (!log_) {
    throw Error(ErrorCode::file, "the case folder can't be written to",
                {{}, {}, {}, folder_.string()},
                "Name a folder on another disk that may be written");
  }
}

Case Case::create(const std::filesystem::path& folder, const Device& device) {
  std::error_code error;
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
  return Case(folder);
}

void Case::save(const Assessment& assessment, const JobOptions& options) const {
  nlohmann::json json = to_json(assessment);
  json["schema"] = "nuvrat.case/1";
  json["disk"] = std::filesystem::absolute(assessment.device.path).string();
  json["zone"] = options.read.zone.name();
  json["codepage"] = options.read.codepage;
  json["undo"] = options.undo == Undo::full ? "full" : "live";
  json["accept_unreadable"] = options.accept_unreadable;
  put("assessment.json", json.dump(2) + "\n");
}

void Case::put(const char* name, const std::string& contents) const {
  const auto part = file("part");
  std::ofstream out(part);
  out << contents;
  out.close();
  std::error_code error;
  if (!out.fail()) std::filesystem::rename(part, file(name), error);
  if (out.fail() || error) {
    throw Error(ErrorCode::file, "the case folder can't be written to",
                {{}, {}, {}, folder_.string()});
  }
}

std::uint64_t Case::room() const {
  std::error_code error;
  const auto space = std::filesystem::space(folder_, error);
  return error ? 0 : space.available;
}

CaseFile load_case(const std::filesystem::path& folder) {
  const auto path = folder / "assessment.json";
  std::ifstream in(path);
  if (!in) {
    throw Error(ErrorCode::file, "this is not the folder of a case", {{}, {}, {}, folder.string()},
                "Name the folder that 'nuvrat rewrite' made");
  }
  try {
    const nlohmann::json json = nlohmann::json::parse(in);
    if (json.at("schema") != "nuvrat.case/1") {
      throw Error(ErrorCode::file, "this case was made by another version");
    }
    CaseFile out;
    out.folder = folder;
    out.disk = json.at("disk").get<std::string>();
    out.assessment = assessment_from_json(json);
    out.options.case_folder = folder;
    out.options.read.zone = Zone::named(json.at("zone").get<std::string>());
    out.options.read.codepage = json.at("codepage");
    out.options.undo = json.at("undo") == "full" ? Undo::full : Undo::live;
    out.options.accept_unreadable = json.at("accept_unreadable");
    const auto journal = folder / "undo.journal";
    if (std::filesystem::exists(journal)) out.steps_done = Journal::open(journal).steps_done();
    return out;
  } catch (const Error& e) {
    throw Error(ErrorCode::file, e.message(),
                {{}, {}, {}, e.place().path.empty() ? path.string() : e.place().path});
  } catch (const nlohmann::json::exception& e) {
    throw Error(ErrorCode::file, fmt::format("the case can't be read: {}", e.what()),
                {{}, {}, {}, path.string()});
  }
}

void Case::log(const std::string& event, const std::string& detail) {
  nlohmann::json line = {{"time", format_time(now())}, {"event", event}};
  if (!detail.empty()) line["detail"] = printable(detail);
  log_ << line << std::endl;
}

void Case::log(const std::string& event, const Error& error) {
  const std::string where = error.place().text();
  nlohmann::json line = {
      {"time", format_time(now())},
      {"event", event},
      {"detail", printable(error.message() + (where.empty() ? "" : " (" + where + ")"))}};
  if (!error.remedy().empty()) line["remedy"] = printable(error.remedy());
  log_ << line << std::endl;
}

}  // namespace nuvrat

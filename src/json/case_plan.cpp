#include "json/case_plan.h"

#include <filesystem>
#include <fstream>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>
#include <nuvrat/time.h>

#include "json/models.h"
#include "json/whole_numbers.h"

namespace nuvrat::json {

namespace {

constexpr const char* case_schema = "nuvrat.case/2";
constexpr const char* result_schema = "nuvrat.result/1";
constexpr std::size_t max_events = 100000;

}  // namespace

CasePlan write_plan(const Assessment& assessment, const CaseHead& head) {
  Blobs blobs;
  Json j = to_json(assessment, &blobs);
  j["schema"] = case_schema;
  j["disk"] = head.disk;
  j["zone"] = head.zone;
  j["codepage"] = head.codepage;
  j["undo"] = head.full_undo ? "full" : "live";
  j["accept_unreadable"] = head.accept_unreadable;
  j["proof"] = name_of(head.proof);
  return {j.dump(2) + "\n", blobs.bytes()};
}

namespace {

// Whether it is the first of two words. Throws Error (file) where it is neither.
bool either(const Json& word, std::string_view first, std::string_view second) {
  if (word == first) return true;
  if (word == second) return false;
  throw Error(ErrorCode::file,
              fmt::format("the case can't be read: it says neither '{}' nor '{}'", first, second));
}

}  // namespace

Assessment read_plan(const CasePlan& plan, CaseHead& head) {
  const Json j = Json::parse(plan.text, nullptr, false);
  if (!j.is_object()) throw Error(ErrorCode::file, "the case is not as it was written");
  try {
    if (j.at("schema") != case_schema)
      throw Error(ErrorCode::file, "this case was made by another version");
    head.disk = j.at("disk").get<std::string>();
    head.zone = j.at("zone").get<std::string>();
    head.codepage = whole_32_bits(j.at("codepage"));
    head.full_undo = either(j.at("undo"), "full", "live");
    head.accept_unreadable = j.at("accept_unreadable");
    head.proof = either(j.at("proof"), name_of(Proof::places), name_of(Proof::contents))
                     ? Proof::places
                     : Proof::contents;
    return assessment_from_json(j, plan.blobs);
  } catch (const Json::exception& e) {
    throw Error(ErrorCode::file, fmt::format("the case can't be read: {}", e.what()));
  }
}

std::string log_line(const std::string& event, const std::string& detail,
                     const std::string& remedy) {
  Json line = {{"time", format_time(now())}, {"event", event}};
  if (!detail.empty()) line["detail"] = printable(detail);
  if (!remedy.empty()) line["remedy"] = printable(remedy);
  return line.dump() + "\n";
}

std::vector<CaseEvent> read_log(const std::filesystem::path& path) {
  std::vector<CaseEvent> out;
  std::ifstream in(path);
  for (std::string line; out.size() < max_events && std::getline(in, line);) {
    const Json j = Json::parse(line, nullptr, false);
    if (!j.is_object()) continue;
    const auto text = [&j](const char* key) {
      return j.contains(key) && j[key].is_string() ? j[key].get<std::string>() : std::string();
    };
    out.push_back({text("time"), text("event"), text("detail"), text("remedy")});
  }
  return out;
}

std::string result_text(const JobResult& result) {
  Json findings = Json::array();
  for (const Finding& f : result.findings_after) findings.push_back(to_json(f));
  const Json j = {{"schema", result_schema},
                  {"tag_after", result.tag_after},
                  {"seconds", result.seconds},
                  {"table_reread", result.table_reread},
                  {"findings", findings}};
  return j.dump(2) + "\n";
}

void read_result(const std::filesystem::path& path, CaseRecord& out) {
  std::ifstream in(path);
  try {
    const Json j = Json::parse(in);
    if (j.at("schema") != result_schema)
      throw Error(ErrorCode::file, "this result was made by another version");
    out.tag_after = j.at("tag_after");
    out.seconds = j.at("seconds");
    out.findings_after = findings_from_json(j.at("findings"));
  } catch (const Json::exception& e) {
    throw Error(ErrorCode::file, fmt::format("the result can't be read: {}", e.what()),
                {.path = path.string()});
  }
}

}  // namespace nuvrat::json

// A plan that a case keeps: it comes back as it was, or not at all.

#include "json/case_plan.h"

#include <set>

#include <doctest/doctest.h>

#include <nuvrat/error.h>

#include "json/library.h"
#include "scenarios.h"

using namespace nuvrat;
using json::Json;

namespace {

const json::CaseHead case_head{.disk = "/disks/tides.img",
                               .zone = "UTC",
                               .codepage = 850,
                               .full_undo = false,
                               .accept_unreadable = true,
                               .proof = Proof::places};

json::CasePlan plan_of(const scenarios::Scenario& scenario) {
  MemoryDevice disk(scenario.sectors, scenario.sector_size);
  scenario.make(disk);
  return json::write_plan(scenario.assess(disk), case_head);
}

// Said again elsewhere, or worked out: nothing is read there.
bool is_told_twice(const Json::json_pointer& at) {
  return at.to_string().starts_with("/numbers") || at.back() == "in_reach" ||
         at.back() == "type_name";
}

// Tables and formats that lack a value lack its key.
bool is_optional(const std::string& key) {
  static const std::set<std::string> keys{"unique_id", "attributes", "table_sector", "subject",
                                          "sector",    "record",     "path"};
  return keys.contains(key);
}

// Empty where it was read; else how it was refused.
std::string refusal_of(const Json& plan, const Bytes& blobs) {
  json::CaseHead ignored;
  try {
    (void)json::read_plan({plan.dump(), blobs}, ignored);
    return "";
  } catch (const Error& e) {
    return e.code() == ErrorCode::file ? "refused" : e.message();
  }
}

std::vector<Json::json_pointer> places_of(const Json& plan) {
  std::vector<Json::json_pointer> out, open{Json::json_pointer()};
  while (!open.empty()) {
    const Json::json_pointer at = open.back();
    open.pop_back();
    const Json& here = plan[at];
    if (here.is_object()) {
      for (const auto& [key, value] : here.items()) {
        out.push_back(at / key);
        open.push_back(at / key);
      }
    } else if (here.is_array() && !here.empty()) {
      open.push_back(at / 0);
    }
  }
  return out;
}

}  // namespace

TEST_CASE("case plan: every rewrite comes back as it was written") {
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    const Assessment a = scenario.assess(disk);
    const json::CasePlan plan = json::write_plan(a, case_head);
    json::CaseHead read;
    const Assessment back = json::read_plan(plan, read);
    const json::CasePlan again = json::write_plan(back, read);
    CHECK(again.text == plan.text);
    CHECK(again.blobs == plan.blobs);
    CHECK(back.before == a.before);
    CHECK(back.after == a.after);
    CHECK(back.changes == a.changes);
    for (const Partition& p : a.after.data_partitions()) {
      REQUIRE(back.after.find(p.id) != nullptr);
      CHECK(back.after.find(p.id)->start == p.start);
      CHECK(back.expectation().start_before(p.start) == a.expectation().start_before(p.start));
    }
  }
}

TEST_CASE("case plan: what lacks a value, or has one of another kind, is refused") {
  int tried = 0;
  std::set<std::string> seen;  // by their keys alone: what one step lacks another would, too
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    const json::CasePlan plan = plan_of(scenario);
    const Json whole = Json::parse(plan.text);
    REQUIRE(refusal_of(whole, plan.blobs).empty());
    for (const Json::json_pointer& at : places_of(whole)) {
      const std::string key = at.back();
      if (is_told_twice(at) || !seen.insert(at.to_string()).second) continue;
      CAPTURE(scenario.name);
      CAPTURE(at.to_string());
      if (!is_optional(key)) {
        Json without = whole;
        without[at.parent_pointer()].erase(key);
        CHECK(refusal_of(without, plan.blobs) == "refused");
      }
      Json other = whole;
      other[at] = whole[at].is_boolean() ? Json(nullptr) : Json(true);
      CHECK(refusal_of(other, plan.blobs) == "refused");
      ++tried;
    }
  }
  MESSAGE(tried << " values");
  CHECK(tried > 200);
}

TEST_CASE("case plan: words that stand for few values are no others") {
  const json::CasePlan plan = plan_of(scenarios::all().front());
  for (const char* key : {"undo", "proof"}) {
    Json other = Json::parse(plan.text);
    other[key] = "perhaps";
    CHECK(refusal_of(other, plan.blobs) == "refused");
  }
}

// Screens keep to the terminal: a plan and its question fit 80 by 24, and no line is wider than it.

#include <algorithm>
#include <sstream>

#include <nuvrat/columns.h>

#include "scenarios.h"
#include "support.h"

using namespace nuvrat;

namespace {

struct Extent {
  std::size_t rows = 0, columns = 0;
};

Extent extent_of(const std::string& text) {
  Extent out;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line); ++out.rows)
    out.columns = std::max(out.columns, display_width(line));
  return out;
}

}  // namespace

TEST_CASE("screens: every plan fits 80 by 24 with its question, and says what goes and is lost") {
  constexpr std::size_t question = 2;
  std::size_t plans = 0;
  for (const scenarios::Scenario& scenario : scenarios::all()) {
    CAPTURE(scenario.name);
    MemoryDevice disk(scenario.sectors, scenario.sector_size);
    scenario.make(disk);
    const Assessment a = scenario.assess(disk);
    REQUIRE(a.in_reach());
    const std::string text = assessment_text(a, {});
    CAPTURE(text);
    const Extent e = extent_of(text);
    CHECK(e.rows + question <= 24);
    CHECK(e.columns <= 80);
    constexpr std::size_t guid = 47;  // one word, with its margin
    for (const unsigned width : {40u, 80u, 120u}) {
      const std::size_t most = std::max<std::size_t>(width, guid);
      CHECK(extent_of(assessment_text(a, {.width = width})).columns <= most);
      CHECK(extent_of(assessment_details(a, {.width = width})).columns <= most);
    }
    for (const Consent& c : a.consents) {
      CHECK_MESSAGE(!c.text.ends_with('.'), c.text);
      const bool shown = row_of(c.code).rank != ConsentRank::details;
      // A line each, whatever its partition is called.
      CHECK_MESSAGE(display_width(c.text) <= (shown ? 65 : 80), c.text);
      const std::string begin = c.text.substr(0, 20);
      CHECK_MESSAGE((text.find(begin) != std::string::npos) >= shown, c.text);
      CHECK(assessment_details(a, {.width = 120}).find(name_of(c.code)) != std::string::npos);
    }
    ++plans;
  }
  MESSAGE(plans << " plans");
  CHECK(plans == scenarios::all().size());
}

TEST_CASE("screens: consents come by rank, and equal ones of several partitions are one line") {
  Assessment a;
  for (unsigned number : {1u, 2u, 5u}) {
    Partition p;
    p.id = PartitionId{number};
    p.number = number;
    p.start = 2048 * number;
    p.sectors = 2048;
    a.before.partitions.push_back(p);
  }
  a.before.disk_sectors = 40960;
  a.after = a.before;
  for (unsigned number : {1u, 2u, 5u})
    a.consents.push_back({ConsentCode::readers, PartitionId{number}, "fewer machines read it", ""});
  const std::string text = assessment_text(a, {});
  CHECK(text.find("know     p1, p2, p5: fewer machines read it\n") != std::string::npos);
  CHECK(a.text_of({ConsentCode::type, PartitionId{5}, "its type becomes 07", "it was 0C"}) ==
        "p5: its type becomes 07. It was 0C");
}

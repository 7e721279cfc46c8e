// The library's face: versions, names of errors, and calls without what nobody minds.

#include <set>

#include <doctest/doctest.h>
#include <fmt/core.h>

#include <nuvrat/nuvrat.h>

using namespace nuvrat;

TEST_CASE("face: the headers' version is the library's, and every error has a name of its own") {
  CHECK(fmt::format("{}.{}.{}", NUVRAT_VERSION_MAJOR, NUVRAT_VERSION_MINOR, NUVRAT_VERSION_PATCH) ==
        version());
  std::set<std::string> names;
  for (const ErrorCode code :
       {ErrorCode::words, ErrorCode::refused, ErrorCode::busy, ErrorCode::device_read,
        ErrorCode::device_write, ErrorCode::damaged, ErrorCode::guard, ErrorCode::cancelled,
        ErrorCode::cut_off, ErrorCode::not_compared, ErrorCode::file})
    names.insert(name_of(code));
  CHECK(names.size() == 11);
}

TEST_CASE("face: a share of a partition is answered with the size that it would be") {
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.disk_sectors = 1u << 22;
  Partition p;
  p.number = 2;
  p.start = 2048;
  p.sectors = 200u << 11;  // 200 MiB
  layout.partitions = {p};
  const auto remedy = [&](const char* word) {
    try {
      (void)parse_goal_for(word, layout);
    } catch (const Error& e) {
      return e.remedy();
    }
    return std::string("none");
  };
  CHECK(remedy("p2.size=20%") == "20% of p2 (200 MiB) is 40.0 MiB: say p2.size=40MiB");
  CHECK(remedy("P2.SIZE=-50%") == "50% of p2 (200 MiB) is 100 MiB: say p2.size=-100MiB");
  CHECK(remedy("p2.size=40MiB") == "none");
  CHECK(remedy("p9.size=20%").find("of what?") != std::string::npos);  // no such partition
  CHECK(remedy("p2.size=9999999999999999999%").find("of what?") != std::string::npos);
}

TEST_CASE("face: a tag is said as people type it, and no other is") {
  CHECK(says_tag("HVDM", "HVDM"));
  CHECK(says_tag(" hvdm\t", "HVDM"));
  CHECK_FALSE(says_tag("HVD", "HVDM"));
  CHECK_FALSE(says_tag("HV DM", "HVDM"));
  CHECK_FALSE(says_tag("", ""));
}

#pragma once
// What the tests of changes to tables share.

#include <filesystem>

#include "support.h"

namespace direction {

using namespace nuvrat;

inline Assessment assessed(Device& device, const std::vector<std::string>& words) {
  Random random(1);
  std::vector<Goal> goals;
  for (const std::string& word : words) goals.push_back(parse_goal(word));
  return assess(device, goals, support::utc(), random);
}

inline Layout gpt(std::uint64_t sectors, std::vector<SectorRange> parts,
                  std::uint32_t sector_size = 512) {
  Random random(4);
  Layout layout = disk_bytes::gpt(sectors, sector_size, random);
  for (const SectorRange& r : parts) disk_bytes::add(layout, r, random);
  return layout;
}

inline void run_in(Device& device, const Assessment& a, const std::filesystem::path& folder) {
  QuietProgress quiet;
  for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
  REQUIRE(a.in_reach());
  JobOptions options;
  options.read = support::utc();
  options.case_folder = folder;
  CHECK(run_job(device, a, options, quiet).sound());
}

}  // namespace direction

#pragma once
// What the tests of changes to tables share.

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
  Layout layout;
  layout.kind = TableKind::gpt;
  layout.sector_size = sector_size;
  layout.disk_sectors = sectors;
  layout.disk_guid = Guid::random(random);
  layout.first_usable = gpt_first_usable(sector_size);
  layout.last_usable = sectors - gpt_array_sectors(sector_size) - 2;
  for (const SectorRange& r : parts) {
    Partition p;
    p.number = static_cast<unsigned>(layout.partitions.size() + 1);
    p.role = Role::gpt;
    p.start = r.first;
    p.sectors = r.count;
    p.type = basic_data_guid();
    p.unique_id = Guid::random(random);
    layout.partitions.push_back(p);
  }
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

#include "scenarios.h"

#include <algorithm>

#include "orrelune.h"

namespace scenarios {

using namespace nuvrat;

namespace {

void fill(Device& device, const Partition& p, std::uint64_t seed) {
  Window window(device, p.range());
  FatFormat format;
  const std::uint64_t clusters = p.sectors / 2;
  format.kind = clusters < 4200 ? VolumeKind::fat12 : VolumeKind::fat16;
  format.cluster_sectors = 2;
  format.label = "V" + std::to_string(p.number);
  format.hidden_sectors = p.start;
  Random random(seed);
  FatWriter writer(window, format);
  orrelune::fill_volume(writer, random, 6);
  writer.finish();
}

// Two primaries (one active), a raw one, two logicals with their EBRs a little in front of them.
void make_mbr(Device& device) {
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.sector_size = device.sector_size();
  layout.disk_sectors = device.sectors();
  layout.disk_signature = 0x5EA51DE5;
  const auto add = [&layout](unsigned number, Role role, std::uint64_t start, std::uint64_t sectors,
                             std::uint8_t type) -> Partition& {
    Partition p;
    p.number = number;
    p.role = role;
    p.start = start;
    p.sectors = sectors;
    p.type = type;
    layout.partitions.push_back(p);
    return layout.partitions.back();
  };
  const std::uint64_t unit = layout.sector_size == 512 ? 1 : 8;
  add(1, Role::primary, 64 / unit, 9600 / unit, 0x0E).active = true;
  add(2, Role::primary, 10000 / unit, 2000 / unit, 0xDA);
  add(3, Role::extended, 20000 / unit, 40000 / unit, 0x0F);
  add(5, Role::logical, 20063 / unit + 1, 9000 / unit, 0x06).table_sector = 20000 / unit;
  add(6, Role::logical, 40016 / unit, 9000 / unit, 0x06).table_sector = 40000 / unit;
  layout.sort();
  write_new_table(device, layout);
  for (const Partition& p : layout.data_partitions()) {
    if (p.number != 2) fill(device, p, p.number);
  }
  Bytes noise(64 * layout.sector_size);
  Random(9).fill(noise);
  device.write(layout.find(2)->start, noise);
  device.write(5, Bytes(layout.sector_size, 0x90));  // loader code
  device.write(device.sectors() - 3, Bytes(layout.sector_size, 0x77));
}

}  // namespace

const std::vector<Scenario>& all() {
  static const std::vector<Scenario> list = {
      {"MBR to GPT, 512", 70000, 512, make_mbr, {"table=gpt"}},
      {"MBR to GPT, 4096", 70000 / 8, 4096, make_mbr, {"table=gpt"}},
  };
  return list;
}

std::vector<Goal> goals_of(const Scenario& scenario) {
  std::vector<Goal> out;
  std::transform(scenario.goals.begin(), scenario.goals.end(), std::back_inserter(out), parse_goal);
  return out;
}

}  // namespace scenarios

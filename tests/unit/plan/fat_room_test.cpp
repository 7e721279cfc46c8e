// The planner's yes and no about FAT, against every geometry there is, on small volumes that are
// nearly full.

#include <fmt/core.h>

#include "fat/search.h"
#include "steps/to_fat.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;

namespace {

JobOptions in_memory(const support::Folder& folder, const std::string& name) {
  JobOptions out;
  out.read = support::utc();
  out.case_folder = folder / name;
  out.case_in_memory = true;
  return out;
}

// Whether any size of clusters and any place for the FATs leaves room for everything.
bool any_geometry(const Device& disk, const VolumeInfo& info) {
  VolumeChange change;
  change.place = {0, disk.sectors()};
  change.zone = "UTC";
  change.from = VolumeKind::ntfs;
  change.to = VolumeKind::fat16;
  steps::VolumeAsFat volume(disk, change, {});
  for (std::uint32_t bytes = disk.sector_size(); bytes <= 65536; bytes *= 2) {
    fat::LayoutWish wish;
    wish.kind = change.to;
    wish.sectors = disk.sectors();
    wish.cluster_sectors = bytes / disk.sector_size();
    wish.grid_step = info.cluster_bytes / disk.sector_size();
    wish.min_reserved = 1;
    wish.free = &volume.free();
    for (const fat::LayoutChoice& place : fat::place_fats(wish, ~std::size_t{0})) {
      steps::ToFat step;
      step.change = change;
      step.take(place.geometry);
      if (volume.plan(step).fits()) return true;
    }
  }
  return false;
}

}  // namespace

TEST_CASE("to FAT: a refusal for want of room is true of every geometry") {
  const support::Folder folder(support::Folder::Where::memory);
  QuietProgress quiet;
  Random random(23);
  int yes = 0, no = 0;
  for (int round = 0; round < 80; ++round) {
    CAPTURE(round);
    const std::uint64_t sectors = 5000 + random.below(2500);
    const auto disk = support::disk(sectors);
    FatFormat format;
    format.kind = VolumeKind::fat16;
    format.cluster_sectors = 1;
    volumes::align_data(format, sectors, 512, true);
    FatWriter writer(*disk, format);
    // As full as leaves room for NTFS; many small files, so that folders need room.
    writer.add_directory("D");
    const std::uint64_t keep = 1350 + random.below(500);
    for (int i = 0; writer.free_clusters() > keep && i < 120; ++i) {
      writer.add_file(fmt::format("D/reading number {}.csv", i),
                      volumes::noise(1 + random.below(50000), random.next()));
    }
    writer.finish();
    Random fixed(1);
    const Assessment there = assess(*disk, {parse_goal("volume=ntfs")}, support::utc(), fixed);
    if (!there.in_reach()) continue;
    REQUIRE(run_job(*disk, there, in_memory(folder, fmt::format("there{}", round)), quiet).sound());
    const VolumeInfo info = open_volume(*disk, support::utc())->info();
    const Assessment back = assess(*disk, {parse_goal("volume=fat16")}, support::utc(), fixed);
    if (back.in_reach()) {
      ++yes;
      CHECK(run_job(*disk, back, in_memory(folder, fmt::format("back{}", round)), quiet).sound());
    } else {
      ++no;
      CHECK_FALSE(any_geometry(*disk, info));
      MESSAGE(back.obstacles[0].code << ": " << back.obstacles[0].text);
    }
  }
  MESSAGE(yes << " in reach and done, " << no << " refused");
  CHECK(yes > 3);
  CHECK(no > 3);
}

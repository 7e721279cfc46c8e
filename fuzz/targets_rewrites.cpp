// Rewrites of damaged disks.

#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

// Damage to a good disk, then everything the tool would do with it. First byte: which disk; then
// pieces as in ntfs_damage. Whatever a rewrite does: what could be read before can be read after,
// and the way back leads to the very disk.
void rewrites(ByteView input) {
  static const std::unique_ptr<MemoryDevice> good[] = {
      mbr_disk(), gpt_disk(), fat_volume(VolumeKind::fat16), fat_volume(VolumeKind::fat32),
      ntfs_volume()};
  if (input.size() < 2) return;
  const MemoryDevice& base = *good[input[0] % 5];
  const auto disk = base.clone();
  damage(*disk, structures_of(base), input.subspan(2));
  read_everything(*disk);
  Random random(1);
  const auto attempt = [&](const Assessment& plan) {
    if (!plan.in_reach() || plan.steps.empty()) return;
    const auto work = disk->clone();
    QuietProgress quiet;
    expect_answer([&] {
      const JobResult result = convert(*work, plan, [&](const std::filesystem::path& folder) {
        (void)report_html(read_record(folder, work.get()));
        (void)revert_case(*work, load_case(folder), {}, quiet);
      });
      if (!result.sound()) {
        std::string what = plan.steps[0].name() + " lost something";
        for (const Difference& d : result.comparison.differences)
          what += "; " + std::string(name_of(d.kind)) + " " + d.path + " " + d.text;
        for (const Finding& f : result.findings_after)
          what += std::string("; ") + name_of(f.code) + " " + f.text;
        broken(what);
      }
    });
    if (!work->same_as(*disk)) broken(plan.steps[0].name() + " or its revert changed the disk");
  };
  expect_answer([&] {
    static const char* const goals[] = {
        "table=gpt",           "table=mbr",       "p1=ntfs",          "volume=ntfs",
        "p1=logical",          "p2=logical",      "p1.active=yes",    "p2.name=x",
        "volume=fat32",        "volume=fat16",    "p1=fat16",         "volume.cluster=1KiB",
        "volume.cluster=4KiB", "p2=fat32",        "p1.size=max",      "p1.size=min",
        "p1.size=-1MiB",       "p2.size=+700KiB", "p1=gone",          "g1=ntfs",
        "g1=fat16:5MiB",       "p1.label=BOJE",   "volume.label=B 2", "p1.front=max",
        "p2.front=+1MiB",      "volume.size=min", "volume.size=-1MiB"};
    attempt(assess(*disk, {parse_goal(goals[input[1] % std::size(goals)])}, utc(), random));
  });
  expect_answer(
      [&] { attempt(assess_repair(*disk, utc(), static_cast<Unowned>(input[1] / 64 % 3))); });
}

std::vector<Bytes> rewrites_seeds() {
  return {{0, 0, 0, 0, 70, 1, 6},
          {1, 1, 1, 0, 30, 0, 1},
          {2, 3, 3, 0, 9, 0, 7},
          {3, 67, 2, 0, 4, 0, 99},
          {0, 5, 5, 0, 2, 0, 1},
          {2, 128, 1, 0, 12, 0, 15},
          {4, 8, 1, 0, 12, 0, 15},
          {4, 9, 3, 0, 40, 1, 8},
          {3, 9},
          {2, 11},
          {4, 9},
          {1, 7},
          {0, 2},
          {0, 6, 9, 0, 1, 0, 3}};
}

}  // namespace

std::vector<Target> rewrite_targets() {
  return {{"rewrites", rewrites, rewrites_seeds}};
}

}  // namespace fuzz

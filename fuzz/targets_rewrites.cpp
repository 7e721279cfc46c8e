// Rewrites of damaged disks.

#include <filesystem>

#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

const MemoryDevice& good_disk(std::uint8_t which) {
  static const std::unique_ptr<MemoryDevice> good[] = {
      mbr_disk(), gpt_disk(), fat_volume(VolumeKind::fat16), fat_volume(VolumeKind::fat32),
      ntfs_volume()};
  return *good[which % std::size(good)];
}

// Damage to a good disk, then everything the tool would do with it. First byte: which disk; then
// pieces as in ntfs_damage. Whatever a rewrite does: what could be read before can be read after,
// and the way back leads to the very disk.
void rewrites(ByteView input) {
  if (input.size() < 2) return;
  const MemoryDevice& base = good_disk(input[0]);
  const auto disk = base.clone();
  damage(*disk, structures_of(base), input.subspan(2));
  read_everything(*disk);
  Random random(1);
  expect_answer([&] {
    static const char* const goals[] = {
        "table=gpt",           "table=mbr",       "p1=ntfs",          "volume=ntfs",
        "p1=logical",          "p2=logical",      "p1.active=yes",    "p2.name=x",
        "volume=fat32",        "volume=fat16",    "p1=fat16",         "volume.cluster=1KiB",
        "volume.cluster=4KiB", "p2=fat32",        "p1.size=max",      "p1.size=min",
        "p1.size=-1MiB",       "p2.size=+700KiB", "p1=gone",          "g1=ntfs",
        "g1=fat16:5MiB",       "p1.label=BOJE",   "volume.label=B 2", "p1.front=max",
        "p2.front=+1MiB",      "volume.size=min", "volume.size=-1MiB"};
    do_and_undo(*disk,
                assess(*disk, {parse_goal(goals[input[1] % std::size(goals)])}, utc(), random));
  });
  expect_answer([&] {
    do_and_undo(*disk, assess_repair(*disk, utc(), static_cast<Unowned>(input[1] / 64 % 3)));
  });
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

// One to six goals together, on a good disk. First bytes: which disk, how many goals; then three
// bytes a goal; the rest is damage.
void goals(ByteView input) {
  static const char* const about[] = {"table", "p1",     "p2",    "p3",   "p5", "g1",
                                      "g2",    "volume", "names", "boot", "esp"};
  static const char* const parts[] = {"",        ".size", ".front", ".label", ".cluster",
                                      ".active", ".type", ".name",  ".letter"};
  static const char* const states[] = {
      "gpt",     "mbr",  "ntfs",      "fat12",      "fat16",  "fat32",   "gone",    "primary",
      "logical", "max",  "min",       "yes",        "match",  "+900KiB", "-700KiB", "5MiB",
      "1KiB",    "8KiB", "512",       "BOJE",       "a b",    "",        "safe",    "uefi",
      "Z",       "raw",  "ntfs:4MiB", "fat16:5MiB", "100MiB", "+1GiB",   "-1GiB",   "0x07"};
  if (input.size() < 5) return;
  const MemoryDevice& base = good_disk(input[0]);
  const std::size_t count = 1 + input[1] % 6;
  const ByteView words = input.subspan(2, std::min(3 * count, input.size() - 2));
  const auto disk = base.clone();
  damage(*disk, structures_of(base), input.subspan(2 + words.size()));
  expect_answer([&] {
    std::vector<Goal> asked;
    for (std::size_t at = 0; at + 3 <= words.size(); at += 3) {
      asked.push_back(parse_goal(std::string(about[words[at] % std::size(about)]) +
                                 parts[words[at + 1] % std::size(parts)] + "=" +
                                 states[words[at + 2] % std::size(states)]));
    }
    Random random(1);
    do_and_undo(*disk, assess(*disk, asked, utc(), random));
  });
}

std::vector<Bytes> goals_seeds() {
  return {{0, 0, 0, 0, 0},                             // table=gpt
          {0, 1, 0, 0, 0, 1, 0, 2},                    // and p1=ntfs
          {1, 2, 0, 0, 1, 1, 1, 9, 2, 3, 19},          // table=mbr p1.size=max p2.label=BOJE
          {2, 1, 7, 0, 2, 7, 1, 14},                   // volume=ntfs volume.size=-700KiB
          {1, 2, 1, 0, 6, 2, 2, 9, 5, 0, 26},          // p1=gone p2.front=max g1=ntfs:4MiB
          {4, 1, 7, 0, 4, 8, 0, 22, 9, 0, 1, 0, 200},  // volume=fat16 names=safe, and damage
          {3, 0, 7, 4, 17}};                           // volume.cluster=8KiB
}

}  // namespace

std::vector<Target> rewrite_targets() {
  return {{"rewrites", rewrites, rewrites_seeds}, {"goals", goals, goals_seeds}};
}

}  // namespace fuzz

// Hostile disks at two sizes: what it costs to look at them grows no faster than they do, but for
// the logarithm that sorting takes; and memory stays within what the disk truly holds.

#include <fmt/core.h>

#include "counting.h"
#include "hostile.h"
#include "support.h"

using namespace nuvrat;
using bounds::Hostile;

namespace {

// Four times as much to look at; a quadratic share would show as up to sixteen.
constexpr unsigned factor = 4;
constexpr double max_growth = 6;

// Bytes on the disk that aren't zero, in whole sectors.
std::uint64_t held(const MemoryDevice& disk) {
  std::uint64_t out = 0;
  for (std::uint64_t lba = disk.next_data(0); lba < disk.sectors(); lba = disk.next_data(lba + 1))
    out += disk.sector_size();
  return out;
}

// Everything that a technician would ask of a disk before anything is done to it.
void look_at(Device& disk) {
  const Survey survey = survey_disk(disk, support::utc(), true);
  for (const SurveyedPartition& p : survey.partitions) {
    if (p.volume) (void)check_volume(Window(disk, p.partition.range()), support::utc());
  }
  try {
    QuietProgress quiet;
    (void)take_manifest(disk, support::utc(), quiet);
  } catch (const Error&) {  // a volume may be too damaged for one
  }
}

void grows_with_the_disk(const std::vector<Hostile>& cases) {
  for (const Hostile& c : cases) {
    CAPTURE(c.what);
    const auto small = c.make(c.n);
    const auto large = c.make(c.n * factor);
    const bounds::Cost a = bounds::cost_of([&] { look_at(*small); });
    const bounds::Cost b = bounds::cost_of([&] { look_at(*large); });
    const double growth = static_cast<double>(b.operations) / static_cast<double>(a.operations);
    const double memory =
        static_cast<double>(b.peak_bytes) / static_cast<double>(held(*large) + (16u << 20));
    MESSAGE(fmt::format(
        "{:<58} {:>6} to {:>6}: operations {:.1f} times, {:.1f} million; memory "
        "{:.2f} of what the disk holds and 16 MiB",
        c.what, c.n, c.n * factor, growth, static_cast<double>(b.operations) / 1e6, memory));
    CHECK(a.operations > 10000);  // the library is counted at all
    CHECK(growth < max_growth);
    CHECK(memory < 4);
  }
}

}  // namespace

TEST_CASE("bounds: hostile partition tables cost what their size is") {
  grows_with_the_disk(bounds::hostile_tables());
}

TEST_CASE("bounds: hostile FAT volumes cost what their size is") {
  grows_with_the_disk(bounds::hostile_fat());
}

TEST_CASE("bounds: hostile NTFS volumes cost what their size is") {
  grows_with_the_disk(bounds::hostile_ntfs());
}

// One field of a boot sector is wrong, and everything is read from another place: a full volume
// may look like an empty one. Whatever the byte, nobody takes that for the volume.

#include <set>

#include "orrelune.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;
using support::manifest_of;
using support::utc;

namespace {

std::unique_ptr<MemoryDevice> volume_of(VolumeKind kind, std::uint32_t sector_size) {
  const bool fat12 = kind == VolumeKind::fat12;
  auto out = support::disk(fat12 ? 4000 : kind == VolumeKind::fat16 ? 30000 : 75000, sector_size);
  FatFormat format;
  format.kind = kind == VolumeKind::ntfs ? VolumeKind::fat32 : kind;
  format.cluster_sectors = kind == VolumeKind::fat16 ? 2 : 1;
  format.label = "PEGEL";
  if (kind != VolumeKind::fat16)
    volumes::align_data(format, out->sectors(), sector_size, format.kind == VolumeKind::fat32);
  Random random(support::seed(6));
  FatWriter writer(*out, format);
  orrelune::fill_volume(writer, random, 12);
  writer.finish();
  if (kind == VolumeKind::ntfs) orrelune::play(*out, "volume=ntfs", 5);
  return out;
}

// Values that are near the byte's, and far from it.
std::set<std::uint8_t> others(std::uint8_t was) {
  std::set<std::uint8_t> out{0, 0xFF, static_cast<std::uint8_t>(was + 1)};
  for (unsigned bit = 0; bit < 8; bit += support::is_long() ? 1 : 5)
    out.insert(static_cast<std::uint8_t>(was ^ 1u << bit));
  out.erase(was);
  return out;
}

bool converts(const Device& disk, VolumeKind kind) {
  Random random(1);
  const char* goal = kind == VolumeKind::ntfs ? "volume=fat32" : "volume=ntfs";
  try {
    return assess(disk, {parse_goal(goal)}, utc(), random).in_reach();
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::words);  // no volume at all, as far as can be seen
    return false;
  }
}

struct Counts {
  unsigned tried = 0, without_effect = 0, unknown = 0, partial = 0, mended = 0;
};

void try_one(const MemoryDevice& good, VolumeKind kind, const std::string& seal, std::size_t at,
             std::uint8_t value, Counts& counts) {
  const auto disk = good.clone();
  Bytes boot = disk->read(0);
  boot[at] = value;
  disk->write(0, boot);
  const Manifest seen = manifest_of(*disk);
  const bool same = seen.seal() == seal;
  ++counts.tried;
  counts.without_effect += same ? 1 : 0;
  counts.unknown += seen.volumes.empty() ? 1 : 0;
  counts.partial += !same && !seen.volumes.empty() && !seen.whole() ? 1 : 0;
  // Other files than there are were not recorded as all of them.
  CHECK((same || seen.volumes.empty() || !seen.whole()));
  CHECK((same || !converts(*disk, kind)));
  // What is mended gives every file; nothing else is written.
  for (const Unowned unowned : {Unowned::leave, Unowned::keep}) {
    const Assessment mend = assess_repair(*disk, utc(), unowned);
    if (!mend.in_reach() || mend.steps.empty()) continue;
    const support::Folder folder(support::Folder::Where::memory);
    QuietProgress quiet;
    CHECK(run_job(*disk, mend, support::case_in_memory(folder / "case"), quiet).sound());
    CHECK(manifest_of(*disk).seal() == seal);
    ++counts.mended;
    return;
  }
}

}  // namespace

TEST_CASE("boot fields: with one of them wrong, nothing is taken for the volume that isn't") {
  struct Case {
    VolumeKind kind;
    std::uint32_t sector_size;
    std::size_t first, end;  // of its fields
  };
  for (const Case& c : {Case{VolumeKind::fat12, 512, 11, 36}, Case{VolumeKind::fat16, 512, 11, 36},
                        Case{VolumeKind::fat32, 512, 11, 52}, Case{VolumeKind::fat32, 4096, 11, 52},
                        Case{VolumeKind::ntfs, 512, 3, 80}, Case{VolumeKind::ntfs, 4096, 3, 80}}) {
    if (c.sector_size != 512 && !support::is_long()) continue;
    CAPTURE(std::string(name_of(c.kind)));
    CAPTURE(c.sector_size);
    const auto good = volume_of(c.kind, c.sector_size);
    const std::string seal = manifest_of(*good).seal();
    const Bytes boot = good->read(0);
    Counts counts;
    for (std::size_t at = c.first; at < c.end; ++at) {
      CAPTURE(at);
      for (const std::uint8_t value : others(boot[at])) {
        CAPTURE(unsigned{value});
        try_one(*good, c.kind, seal, at, value, counts);
      }
    }
    MESSAGE(std::string(name_of(c.kind))
            << ": " << counts.tried << " tried, " << counts.without_effect << " without effect, "
            << counts.unknown << " not a volume, " << counts.partial << " partial, "
            << counts.mended << " mended");
    CHECK(counts.without_effect < counts.tried);
  }
}

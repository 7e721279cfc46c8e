// NTFS with clusters larger than any that FAT has: read, edited, and turned into FAT.

#include <nuvrat/nuvrat.h>

#include "ntfs/build.h"
#include "support.h"
#include "volumes.h"

using namespace nuvrat;

TEST_CASE("large clusters: NTFS in clusters of 128 KiB to 1 MiB becomes FAT32") {
  for (const std::uint32_t cluster : {256u, 1024u, 2048u}) {
    CAPTURE(cluster);
    const std::uint64_t sectors = 12000000;
    const auto disk = support::disk(sectors);
    FileTree tree;
    FileTree::Info info;
    ntfs::Format format;
    format.sectors = sectors;
    format.cluster_sectors = cluster;
    format.serial = 0x12345678;
    format.label = u"GROSS";
    format.made = now();
    format.free = SectorSet{{0, sectors - 1}};
    std::uint64_t next = 3;
    for (unsigned i = 0; i < 40; ++i) {
      info.size = 700000 + i * 1111;
      info.created = info.modified = info.accessed = format.made;
      const FileTree::Id id =
          tree.add(FileTree::root, to_utf16("FILE" + std::to_string(i)), u"", info);
      const std::uint64_t count = div_up<std::uint64_t>(info.size, cluster * 512ull);
      const std::uint64_t first = next;
      next += count + i % 3;
      const std::vector<SectorRange> extents{{first * cluster, count * cluster}};
      tree.set_extents(id, extents);
      Bytes content = volumes::noise(info.size, i);
      content.resize(div_up<std::size_t>(content.size(), 512) * 512);
      disk->write(first * cluster, content);
      format.free.remove(extents[0]);
    }
    const ntfs::Plan plan(tree, format);
    REQUIRE(plan.fits());
    ntfs::write_volume(
        plan, [&](std::uint64_t sector, std::uint64_t count) { return disk->read(sector, count); },
        [&](std::uint64_t sector, ByteView data) { disk->write(sector, data); },
        [](std::string_view) {});
    Bytes boot = ntfs::boot_sector(plan);
    unsigned power = 0;
    while (1u << power < cluster) ++power;
    boot[13] = static_cast<std::uint8_t>(256 - power);
    disk->write(0, boot);
    disk->write(sectors - 1, boot);
    const Findings before = check_volume(*disk, support::utc());
    for (const Finding& f : before) MESSAGE(std::string(name_of(f.code)) << ": " << f.text);
    REQUIRE(before.empty());
    QuietProgress quiet;
    const std::string seal = take_manifest(*disk, support::utc(), quiet).seal();
    const auto original = disk->clone();

    const support::Folder folder(support::Folder::Where::memory);
    JobOptions options;
    options.read = support::utc();
    options.case_folder = folder / "case";
    options.case_in_memory = true;
    Random random(1);
    const Assessment a = assess(*disk, {parse_goal("volume=fat32")}, support::utc(), random);
    for (const Obstacle& o : a.obstacles) MESSAGE(o.text);
    REQUIRE(a.in_reach());
    CHECK(run_job(*disk, a, options, quiet).sound());
    CHECK(take_manifest(*disk, support::utc(), quiet).seal() == seal);
    CHECK(check_volume(*disk, support::utc()).empty());
    (void)revert_case(*disk, load_case(folder / "case"), {}, quiet);
    CHECK(disk->same_as(*original));
  }
}

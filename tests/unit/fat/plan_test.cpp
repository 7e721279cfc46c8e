// FAT for trees that no reader gave: what it can't take over in place is written out.

#include "fat/plan.h"

#include <functional>
#include <set>

#include <fmt/core.h>

#include <nuvrat/function_ref.h>
#include <nuvrat/nuvrat.h>

#include "fat/build.h"
#include "fat/search.h"
#include "support.h"

using namespace nuvrat;

namespace {

// Builds the volume and gives it as a disk.
std::unique_ptr<MemoryDevice> built(const FileTree& tree, std::uint64_t sectors,
                                    const std::function<Bytes(FileTree::Id)>& contents,
                                    std::uint64_t& needed) {
  const SectorSet free{{0, sectors}};
  fat::LayoutWish wish;
  wish.sectors = sectors;
  wish.cluster_sectors = 1;
  wish.grid_step = 1;
  wish.min_reserved = 9;
  wish.free = &free;
  const auto places = fat::place_fats(wish, 1);
  REQUIRE(places.size() == 1);
  fat::Target target;
  target.geometry = places[0].geometry;
  target.free = std::make_shared<const SectorSet>(free);
  const fat::Plan plan(tree, target);
  REQUIRE(plan.fits());
  needed = plan.needed_clusters();
  auto disk = support::disk(sectors);
  fat::write_volume(
      plan, {[&](std::uint64_t sector, ByteView data) { disk->write(sector, data); },
             [&](std::uint64_t sector, ByteSpan out) { disk->read(sector, out); },
             [&](FileTree::Id id, ByteSink sink) { sink(contents(id)); }, [](std::string_view) {}});
  const fat::Geometry& g = plan.geometry();
  disk->write(0, fat::boot_sector(g));
  disk->write(1, fat::reserved_area(g, 8, 0xFFFFFFFF, 0xFFFFFFFF));
  return disk;
}

}  // namespace

TEST_CASE("plan: 100,000 small files that lie in records take a cluster each") {
  FileTree tree;
  FileTree::Info folder;
  folder.directory = true;
  FileTree::Id above = 0;
  const auto contents = [](FileTree::Id id) {
    const std::string text = fmt::format("reading {} of the tide", id);
    return Bytes(text.begin(), text.end());
  };
  for (unsigned i = 0; i < 100000; ++i) {
    if (i % 500 == 0)
      above = tree.add(FileTree::root, to_utf16(fmt::format("GAUGE{}", i)), u"", folder);
    FileTree::Info info;
    info.size = contents(static_cast<FileTree::Id>(tree.size())).size();
    info.modified = parse_time("2031-05-02T11:00:00Z");
    const FileTree::Id id =
        tree.add(above, to_utf16(fmt::format("R{:07}.TXT", i % 500)), u"", info);
    tree.set_stored(id, Stored::elsewhere);
  }
  std::uint64_t needed = 0;
  const auto disk = built(tree, 160000, contents, needed);
  CHECK(needed >= 100000);
  const Findings findings = check_volume(*disk, support::utc());
  for (const Finding& f : findings) MESSAGE(std::string(name_of(f.code)) << ": " << f.text);
  CHECK(std::all_of(findings.begin(), findings.end(),
                    [](const Finding& f) { return f.code == Rule::fat_fs_info; }));
  const auto reader = open_volume(*disk, support::utc());
  const FileTree& now = reader->tree();
  REQUIRE(now.file_count() == 100000);
  for (const FileTree::Id id : {FileTree::Id{2}, FileTree::Id{50000}, FileTree::Id{100100}}) {
    if (tree.is_directory(id)) continue;
    Bytes there;
    read_file(*reader, tree.path(id),
              [&](ByteView part) { there.insert(there.end(), part.begin(), part.end()); });
    CHECK(there == contents(id));
  }
}

TEST_CASE("plan: short names stay, others are made by the published rule, and none twice") {
  FileTree tree;
  FileTree::Info info;
  const auto add = [&](const char16_t* name, const char16_t* alias) {
    tree.add(FileTree::root, name, alias, info);
  };
  add(u"gauge log of may.csv", u"GAUGEL~7.CSV");
  add(u"gauge log of june.csv", u"");
  add(u"tide.txt", u"");
  add(u"TIDE2.TXT", u"");
  add(u"Tide3.txt", u"");
  add(u"TIDE4", u"");
  add(u"tide4 ", u"TIDE4");  // a short name that another has already
  add(u"Ωμέγα.txt", u"");
  add(u"a.b.c", u"");
  std::uint64_t needed = 0;
  const auto disk = built(
      tree, 70000, [](FileTree::Id) { return Bytes(); }, needed);
  const auto reader = open_volume(*disk, support::utc());
  const FileTree& now = reader->tree();
  const auto alias = [&](const char* name) { return to_utf8(now.short_name(now.find(name))); };
  CHECK(alias("gauge log of may.csv") == "GAUGEL~7.CSV");
  CHECK(alias("gauge log of june.csv") == "GAUGEL~1.CSV");
  CHECK(alias("tide.txt") == "TIDE.TXT");
  CHECK(alias("Tide3.txt") == "TIDE3.TXT");
  CHECK(alias("TIDE4") == "TIDE4");
  CHECK(alias("a.b.c") == "AB~1.C");
  std::set<std::string> all;
  for (const FileTree::Id id : now.children(FileTree::root))
    CHECK(all.insert(to_utf8(now.short_name(id))).second);
  CHECK(all.size() == 9);
}

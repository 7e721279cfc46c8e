// Index nodes and attributes: what is packed into blocks and records comes out of them again.

#include <map>
#include <set>

#include <doctest/doctest.h>

#include <nuvrat/error.h>
#include <nuvrat/random.h>

#include "ntfs/attribute.h"
#include "ntfs/fixup.h"
#include "ntfs/index.h"
#include "ntfs/raw_record.h"
#include "support.h"

using namespace nuvrat;
using support::little;

namespace {

std::vector<ntfs::IndexItem> random_items(Random& random, std::size_t count, std::size_t longest) {
  std::vector<ntfs::IndexItem> out(count);
  for (std::size_t i = 0; i < count; ++i) {
    out[i].head = i + 1;
    out[i].body.resize(8 + random.below(longest - 8));
    random.fill(out[i].body);
    out[i].key_length = static_cast<std::uint16_t>(out[i].body.size());
  }
  return out;
}

// The items under a block, in the tree's order, read from its bytes; how deep it goes.
std::size_t in_order(const std::vector<Bytes>& blocks, std::size_t number, std::uint64_t per_block,
                     std::vector<std::uint64_t>& out, const std::vector<ntfs::IndexItem>& items) {
  REQUIRE(number < blocks.size());
  Bytes block = blocks[number];
  REQUIRE(std::string(block.begin(), block.begin() + 4) == "INDX");
  REQUIRE(ntfs::unprotect(block));
  CHECK(little(block, 16, 8) == number * per_block);
  const std::size_t header = 0x18;
  const std::size_t end = header + little(block, header + 4, 4);
  CHECK(end <= header + little(block, header + 8, 4));
  CHECK(header + little(block, header + 8, 4) == block.size());
  const bool parent = (little(block, header + 12, 4) & 1) != 0;
  std::size_t at = header + little(block, header, 4);
  std::size_t depth = 0;
  std::size_t entries = 0;
  for (bool last = false; !last; ++entries) {
    REQUIRE(at + 16 <= end);
    const std::size_t length = little(block, at + 8, 2);
    const auto flags = little(block, at + 12, 2);
    REQUIRE(length >= 16);
    REQUIRE(at + length <= end);
    CHECK(length % 8 == 0);
    last = (flags & 2) != 0;
    CHECK(((flags & 1) != 0) == parent);
    if (parent) {
      const std::uint64_t vcn = little(block, at + length - 8, 8);
      REQUIRE(vcn % per_block == 0);
      const std::size_t below = in_order(blocks, vcn / per_block, per_block, out, items) + 1;
      CHECK((depth == 0 || depth == below));  // every leaf is as deep
      depth = below;
    }
    if (!last) {
      const std::uint64_t head = little(block, at, 8);
      REQUIRE(head >= 1);
      REQUIRE(head <= items.size());
      const Bytes& body = items[head - 1].body;
      REQUIRE(little(block, at + 10, 2) == body.size());
      CHECK(std::equal(body.begin(), body.end(),
                       block.begin() + static_cast<std::ptrdiff_t>(at + 16)));
      out.push_back(head);
    }
    at += length;
  }
  CHECK(at == end);
  CHECK(entries > 1);  // no block without a name
  return depth;
}

}  // namespace

TEST_CASE("index: every entry is once in the tree, in order, and all leaves are equally deep") {
  Random random(11);
  std::set<std::size_t> depths;
  for (int round = 0; round < 120; ++round) {
    const std::uint64_t block_bytes = round % 3 == 0 ? 2048 : 4096;
    const std::uint64_t unit = round % 2 == 0 ? 512 : block_bytes;
    const std::size_t longest = round % 4 == 0 ? 590 : 60;
    const auto items =
        random_items(random, 1 + random.below(round % 10 == 0 ? 9000 : 300), longest);
    CAPTURE(round);
    std::vector<std::uint32_t> sizes;
    for (const ntfs::IndexItem& item : items)
      sizes.push_back(static_cast<std::uint32_t>(ntfs::entry_bytes(item.body.size())));
    const ntfs::IndexShape shape(sizes, block_bytes);
    std::vector<Bytes> blocks;
    for (std::size_t i = 0; i < shape.blocks(); ++i) {
      blocks.push_back(index_block(shape, i, items, unit));
      REQUIRE(blocks.back().size() == block_bytes);
    }
    std::vector<std::uint64_t> heads;
    depths.insert(in_order(blocks, blocks.size() - 1, block_bytes / unit, heads, items));
    REQUIRE(heads.size() == items.size());
    for (std::size_t i = 0; i < heads.size(); ++i) CHECK(heads[i] == i + 1);
    // The root only leads to the top.
    ntfs::IndexKind kind;
    kind.unit = unit;
    kind.block_bytes = block_bytes;
    const Bytes root = ntfs::large_index_root(kind, blocks.size());
    CHECK(little(root, 8, 4) == block_bytes);
    CHECK(little(root, root.size() - 8, 8) == (blocks.size() - 1) * (block_bytes / unit));
  }
  CHECK(*depths.begin() == 0);
  CHECK(*depths.rbegin() >= 2);
}

namespace {

tree::Runs random_runs(Random& random, std::size_t count) {
  tree::Runs out;
  std::uint64_t lcn = 100;
  for (std::size_t i = 0; i < count; ++i) {
    lcn += 2 + random.below(1u << 20);
    const std::uint64_t length = 1 + random.below(200);
    out.push_back({lcn, length});
    lcn += length;
  }
  return out;
}

}  // namespace

TEST_CASE("attributes: what a record can't hold goes into others, nothing twice and nothing lost") {
  Random random(12);
  std::size_t with_list = 0;
  for (int round = 0; round < 300; ++round) {
    CAPTURE(round);
    ntfs::Geometry geometry;
    geometry.record_bytes = round % 3 == 0 ? 4096 : 1024;
    geometry.total_sectors = std::uint64_t{1} << 42;
    const ntfs::RecordPacker packer(geometry.record_bytes, geometry.cluster_bytes());
    std::vector<ntfs::Attribute> attributes{ntfs::resident(0x10, Bytes(72, 1))};
    const std::uint64_t streams = random.below(12);
    for (std::uint64_t i = 0; i < streams; ++i) {
      const std::u16string name = u"s" + std::u16string(1, static_cast<char16_t>(u'a' + i));
      if (random.below(2) == 0) {
        attributes.push_back(ntfs::resident(0x80, Bytes(random.below(200), 7), name));
      } else {
        const tree::Runs runs = random_runs(random, 1 + random.below(400));
        attributes.push_back(ntfs::non_resident(0x80, runs,
                                                tree::clusters_in(runs) * geometry.cluster_bytes(),
                                                geometry.cluster_bytes(), name));
      }
    }
    constexpr std::uint64_t first = 5000;
    const ntfs::PackedFile packed = packer.pack({40, 3, ntfs::record_in_use, 1, 0}, attributes,
                                                {{9, 16}}, ntfs::new_extensions(first));
    CHECK(packer.fits(attributes) == (packed.records.size() == 1));
    CHECK(packed.list.empty() == (packed.records.size() == 1));
    with_list += packed.list.empty() ? 0 : 1;
    std::map<std::u16string, tree::Runs> runs;
    std::map<std::u16string, std::uint64_t> next_vcn;
    std::size_t found = 0;
    for (std::size_t i = 0; i < packed.records.size(); ++i) {
      const Bytes& record = packed.records[i];
      REQUIRE(record.size() == geometry.record_bytes);
      CHECK(little(record, 0x18, 4) <= record.size());                           // bytes in use
      CHECK((little(record, 0x20, 8) & 0xFFFFFFFFFFFF) == (i == 0 ? 0u : 40u));  // its base record
      ntfs::each_raw_attribute(record, geometry, [&](const ntfs::RawAttribute& a) {
        if (a.head.type.value() == 0x20) return;  // the list
        found += a.vcn == 0 ? 1 : 0;
        if (a.head.type.value() != 0x80) return;
        CHECK(a.vcn == next_vcn[a.name]);
        for (const tree::Run& run : a.runs) tree::add_run(runs[a.name], run);
        next_vcn[a.name] += tree::clusters_in(a.runs);
      });
      Bytes sealed = record;
      ntfs::RecordPacker::seal(sealed);
      REQUIRE(ntfs::unprotect(sealed));
    }
    CHECK(found == attributes.size());
    for (const ntfs::Attribute& a : attributes) {
      if (!a.resident) CHECK(runs[a.name] == a.runs);
    }
  }
  CHECK(with_list > 100);
  CHECK(with_list < 300);
}

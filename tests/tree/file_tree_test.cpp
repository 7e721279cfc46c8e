// The tree of a volume against the plainest way to keep one, at sizes where its blocks matter.

#include <algorithm>
#include <map>

#include <fmt/core.h>

#include "support.h"

using namespace nuvrat;

namespace {

struct PlainNode {
  std::u16string name, short_name;
  FileTree::Info info;
  FileTree::Id parent = FileTree::root;
  std::vector<SectorRange> extents;
};

std::u16string random_name(Random& random, std::size_t most) {
  std::u16string out;
  const std::size_t length = 1 + random.below(most);
  for (std::size_t i = 0; i < length; ++i)
    out.push_back(static_cast<char16_t>(u'a' + random.below(26)));
  return out;
}

}  // namespace

TEST_CASE("tree: what goes in comes out, over many blocks of nodes and names") {
  Random random(11);
  FileTree tree;
  std::vector<PlainNode> plain(1);
  std::vector<FileTree::Id> folders{FileTree::root};
  std::uint64_t files = 0, bytes = 0;
  for (FileTree::Id id = 1; id < 30000; ++id) {
    PlainNode n;
    n.name = random_name(random, 255);
    if (random.below(2) == 0) n.short_name = random_name(random, 12);
    n.info.directory = random.below(20) == 0;
    n.info.attributes = static_cast<std::uint32_t>(random.below(64));
    n.info.modified = static_cast<Ticks>(random.next() >> 2);
    if (!n.info.directory) n.info.size = random.below(1u << 20);
    n.parent = folders[random.below(folders.size())];
    REQUIRE(tree.add(n.parent, n.name, n.short_name, n.info) == id);
    for (std::uint64_t i = random.below(4); !n.info.directory && i > 0; --i)
      n.extents.push_back({random.below(1u << 30), 1 + random.below(99)});
    if (!n.extents.empty()) tree.set_extents(id, n.extents);
    if (n.info.directory) {
      folders.push_back(id);
    } else {
      ++files;
      bytes += n.info.size;
    }
    plain.push_back(std::move(n));
  }
  CHECK(tree.file_count() == files);
  CHECK(tree.total_bytes() == bytes);
  CHECK(tree.directory_count() == folders.size() - 1);
  const FileTree copy = tree;  // a copy is whole by itself
  tree = FileTree();
  std::map<FileTree::Id, std::vector<FileTree::Id>> children;
  bool same = true;
  for (FileTree::Id id = 1; id < plain.size(); ++id) {
    const PlainNode& n = plain[id];
    const FileTree::Info info = copy.info(id);
    same &= copy.name(id) == n.name && copy.short_name(id) == n.short_name &&
            copy.parent(id) == n.parent && info.size == n.info.size &&
            info.directory == n.info.directory && info.attributes == n.info.attributes &&
            info.modified == n.info.modified && std::ranges::equal(copy.extents(id), n.extents);
    children[n.parent].push_back(id);
  }
  CHECK(same);
  for (const auto& [parent, ids] : children) same &= copy.children(parent) == ids;
  CHECK(same);
  // A walk: every node once, folders before what they hold, siblings by name.
  std::vector<bool> seen(plain.size());
  std::size_t count = 0;
  FileTree::Id last = FileTree::root;
  copy.walk([&](FileTree::Id id) {
    same &= !seen[id] && (copy.parent(id) == FileTree::root || seen[copy.parent(id)]);
    if (copy.parent(id) == copy.parent(last) && last != FileTree::root)
      same &= copy.name(last) <= copy.name(id);
    seen[id] = true;
    last = id;
    ++count;
  });
  CHECK(same);
  CHECK(count + 1 == plain.size());
}

TEST_CASE("tree: adopted extents are given to several names without a copy") {
  FileTree tree;
  FileTree::Info info;
  info.size = 4096;
  const FileTree::Id a = tree.add(FileTree::root, u"a", u"", info);
  const FileTree::Id b = tree.add(FileTree::root, u"b", u"", info);
  tree.adopt_extents({{10, 2}, {40, 6}, {90, 1}});
  tree.set_extents(a, 0, 2);
  tree.set_extents(b, 0, 2);
  tree.set_link(b, a);
  CHECK(tree.extents(a).data() == tree.extents(b).data());
  CHECK(tree.extents(b)[1] == SectorRange{40, 6});
  CHECK(tree.link(b) == a);
  CHECK(tree.path(b) == "b");
  CHECK_THROWS_AS(tree.add(FileTree::root, std::u16string(512, u'x'), u"", info), Error);
  CHECK_THROWS_AS(tree.add(FileTree::root, u"x", std::u16string(13, u'x'), info), Error);
}

// Manifests put aside, and what was recorded beside what is there now, on trees drawn at random.

#include "tree/recording.h"

#include <filesystem>
#include <set>

#include <fmt/core.h>

#include "support.h"
#include "tree/comparer.h"
#include "tree/pairs.h"

using namespace nuvrat;

namespace {

std::u16string drawn_name(Random& random) {
  std::u16string out;
  const std::size_t units = 1 + random.below(random.below(20) == 0 ? 255 : 3);
  for (std::size_t i = 0; i < units; ++i)
    out += static_cast<char16_t>(random.below(9) == 0 ? 0xD800 + random.below(0x400)
                                                      : u'A' + random.below(4));
  return out;
}

ManifestVolume drawn_volume(Random& random, std::uint64_t start, std::size_t nodes) {
  ManifestVolume v;
  v.number = static_cast<unsigned>(start);
  v.start = start;
  v.sectors = 1000;
  std::vector<FileTree::Id> folders{FileTree::root};
  std::vector<std::set<std::u16string>> taken(1);
  while (v.tree.size() < nodes) {
    const std::size_t in = random.below(folders.size());
    const std::u16string name = drawn_name(random);
    if (!taken[in].insert(name).second) continue;
    FileTree::Info info;
    info.directory = random.below(4) == 0;
    info.attributes = static_cast<std::uint32_t>(random.next());
    info.size = info.directory ? 0 : random.below(5) * 700;
    info.created = static_cast<Ticks>(random.next() >> 8);
    info.modified = static_cast<Ticks>(random.next() >> 8);
    const FileTree::Id id = v.tree.add(folders[in], name, {}, info);
    if (info.directory) {
      folders.push_back(id);
      taken.emplace_back();
      continue;
    }
    std::vector<SectorRange> extents;
    for (std::uint64_t left = div_up<std::uint64_t>(info.size, 512); left > 0;) {
      const std::uint64_t count = 1 + random.below(left);
      extents.push_back({random.below(5) == 0 ? FileTree::hole : random.below(900), count});
      left -= count;
    }
    v.tree.set_extents(id, extents);
    if (info.size > 512 && random.below(4) == 0) v.tree.set_valid_bytes(id, info.size - 512);
  }
  v.digests.resize(v.tree.size());
  v.placed.resize(v.tree.size());
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    if (v.tree.is_directory(id)) continue;
    random.fill(v.digests[id].bytes);
    v.placed[id] = random.below(2) == 0;
    while (random.below(5) == 0) v.unreadable[id].push_back({random.below(99), random.below(99)});
  }
  return v;
}

// All that a node says, a line each.
std::vector<std::string> lines_of(tree::RecordedNodes& nodes) {
  std::vector<std::string> out;
  for (tree::RecordedNode n; nodes.next(n);) {
    std::string line =
        fmt::format("{} {} {} {} {} {} {} {} {} {} {}", n.parent, n.id, utf16_digits(n.name),
                    n.info.directory, n.info.attributes, n.info.size, n.info.created,
                    n.info.modified, n.valid_bytes, n.digest.hex(), n.placed);
    for (const SectorRange& r : n.runs) line += fmt::format(" {}+{}", r.first, r.count);
    for (const ByteRange& r : n.unreadable) line += fmt::format(" !{}+{}", r.offset, r.length);
    out.push_back(std::move(line));
  }
  return out;
}

// By paths, as pair_nodes tells it.
class Told final : public tree::NodePairs {
 public:
  explicit Told(const FileTree& now) : now_(now) {}
  void both(const tree::RecordedNode& then, const std::u16string& folder,
            FileTree::Id now) override {
    both_.emplace(tree::path_in(folder, then.name), now_.path16(now));
  }
  void gone(const tree::RecordedNode& then, const std::u16string& folder) override {
    gone_.insert(tree::path_in(folder, then.name));
  }
  void came(FileTree::Id now) override { came_.insert(now_.path16(now)); }

  std::map<std::u16string, std::u16string> both_;
  std::set<std::u16string> gone_, came_;

 private:
  const FileTree& now_;
};

// The same by looking up every path of either side. `a` in `in_a` has become `b` in `in_b`.
void look_up(const FileTree& then, FileTree::Id a, const FileTree& now, FileTree::Id b,
             const tree::Renamings& renamed, Told& out) {
  const std::u16string folder = then.path16(a);
  std::set<FileTree::Id> found;
  for (const FileTree::Id child : then.children(a)) {
    std::u16string name(then.name(child));
    if (const auto in = renamed.find(folder); in != renamed.end() && in->second.count(name) != 0)
      name = in->second.at(name);
    FileTree::Id other = FileTree::none;
    for (const FileTree::Id c : now.children(b)) {
      if (now.name(c) == name) other = c;
    }
    if (other == FileTree::none) {
      out.gone_.insert(then.path16(child));
      continue;
    }
    found.insert(other);
    out.both_.emplace(then.path16(child), now.path16(other));
    if (then.is_directory(child) && now.is_directory(other))
      look_up(then, child, now, other, renamed, out);
  }
  for (const FileTree::Id c : now.children(b)) {
    if (found.count(c) == 0) out.came_.insert(now.path16(c));
  }
}

// The tree with some nodes left out, some renamed, some added, some turned from file to folder.
FileTree changed(const FileTree& tree, Random& random, tree::Renamings& renamed) {
  FileTree out;
  std::map<FileTree::Id, FileTree::Id> made{{FileTree::root, FileTree::root}};
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    const auto parent = made.find(tree.parent(id));
    if (parent == made.end() || random.below(8) == 0) continue;
    std::u16string name(tree.name(id));
    FileTree::Info info = tree.info(id);
    if (random.below(8) == 0) {
      const std::u16string new_name =
          to_utf16(fmt::format("{}{}", random.below(2) == 0 ? "~" : "0", id)) + name;
      renamed[tree.path16(tree.parent(id))][name] = new_name;
      name = new_name;
    }
    const bool turned = random.below(12) == 0;
    if (turned) info.directory = !info.directory;
    const FileTree::Id to = out.add(parent->second, name, {}, info);
    if (!turned && info.directory) made[id] = to;
    if (random.below(8) == 0)
      (void)out.add(parent->second, to_utf16(fmt::format("new {}", id)), {}, tree.info(id));
  }
  return out;
}

}  // namespace

TEST_CASE("recording: what was put aside comes back node by node, in the order of the tree's") {
  Random random(23);
  const support::Folder folder;
  for (std::size_t round = 0; round < 12; ++round) {
    CAPTURE(round);
    Manifest m;
    m.proof = round % 2 == 0 ? Proof::contents : Proof::places;
    // The last ones are longer than what is read or written at once.
    for (std::uint64_t v = 0; v < round % 4; ++v)
      m.volumes.push_back(drawn_volume(random, 1 + v, round > 9 ? 4000 : 1 + random.below(60)));
    m.ranges.push_back({9, 9, 1, "noise", {}, {{0, 512}}});
    const tree::Recording at_hand(m);
    const tree::Recording aside = tree::Recording::put_aside(m, folder.path());
    const tree::Recording kept = tree::Recording::put_aside(m, folder / "not there");
    CHECK(std::filesystem::is_empty(folder.path()));
    for (const tree::Recording* r : {&aside, &kept}) {
      CHECK(r->files() == m.files());
      CHECK(r->bytes() == m.bytes());
      CHECK(r->unreadable_files() == m.unreadable_files());
      CHECK(r->unreadable_ranges() == 1);
      CHECK(r->seal() == (m.proof == Proof::contents ? m.seal() : ""));
      REQUIRE(r->volumes().size() == m.volumes.size());
      // In any order, and again.
      for (std::size_t i = 2 * m.volumes.size(); i-- > 0;) {
        const tree::RecordedVolume& v = r->volumes()[i % m.volumes.size()];
        const auto lines = lines_of(*r->nodes(v));
        CHECK(lines.size() == m.volumes[v.at].tree.size() - 1);
        CHECK(lines == lines_of(*at_hand.nodes_at(v.start)));
      }
      CHECK(tree::compare_with_changes(*r, m, AccessTimes::compared, {}).equal());
      save_manifest(m, folder / "said");
      save_manifest(r->bring_back(), folder / "brought back");
      CHECK(support::fingerprint(folder / "said") == support::fingerprint(folder / "brought back"));
      std::filesystem::remove(folder / "said");
      std::filesystem::remove(folder / "brought back");
    }
  }
}

TEST_CASE("recording: of what was chosen nothing else counts") {
  Random random(29);
  const support::Folder folder;
  Manifest m;
  for (std::uint64_t v = 1; v < 4; ++v) m.volumes.push_back(drawn_volume(random, v, 40));
  Manifest second;
  second.volumes.push_back(m.volumes[1]);
  for (const bool put_aside : {false, true}) {
    tree::Recording r =
        put_aside ? tree::Recording::put_aside(m, folder.path()) : tree::Recording(m);
    r.choose({2});
    CHECK(r.chosen());
    CHECK(r.files() == second.files());
    CHECK(r.seal() == (put_aside ? "" : second.seal()));
    CHECK(r.nodes_at(1) == nullptr);
    CHECK(lines_of(*r.nodes_at(2)) == lines_of(*tree::Recording(second).nodes_at(2)));
    CHECK(tree::compare_with_changes(r, second, AccessTimes::compared, {}).equal());
    CHECK(tree::compare_with_changes(r, m, AccessTimes::compared, {}).equal());
  }
}

TEST_CASE("recording: pairs are those that looking up every path finds") {
  Random random(31);
  const support::Folder folder;
  std::size_t both = 0, gone = 0, came = 0, renames = 0;
  for (std::size_t round = 0; round < 200; ++round) {
    CAPTURE(round);
    Manifest m;
    m.volumes.push_back(drawn_volume(random, 1, 1 + random.below(80)));
    const FileTree& then = m.volumes[0].tree;
    tree::Renamings renamed;
    const FileTree now = changed(then, random, renamed);
    Told wanted(now);
    look_up(then, FileTree::root, now, FileTree::root, renamed, wanted);
    const tree::Recording aside = tree::Recording::put_aside(m, folder.path());
    const tree::Recording at_hand(m);
    for (const tree::Recording* r : {&aside, &at_hand}) {
      Told told(now);
      tree::pair_nodes(*r->nodes_at(1), now, renamed, told);
      CHECK(told.both_ == wanted.both_);
      CHECK(told.gone_ == wanted.gone_);
      CHECK(told.came_ == wanted.came_);
    }
    both += wanted.both_.size();
    gone += wanted.gone_.size();
    came += wanted.came_.size();
    for (const auto& [in, names] : renamed) renames += names.size();
  }
  MESSAGE(fmt::format("{} on both sides, {} gone, {} came, {} renamed", both, gone, came, renames));
}

// What moves between two looks at a disk, hashed on both sides, held against the bytes themselves.

#include "tree/places.h"

#include <fmt/core.h>

#include <nuvrat/fault.h>

#include "support.h"
#include "tree/comparer.h"

using namespace nuvrat;

namespace {

constexpr std::uint32_t sector = 512;
constexpr std::uint64_t volume_start = 64;

// One file on both disks.
struct Placed {
  FileTree::Info info;
  std::uint64_t valid;
  std::vector<SectorRange> then, now;  // in the volume
  bool moved, written, linked;
  std::vector<std::uint64_t> bad;  // sectors of `then`, on the disk
};

class TwoDisks {
 public:
  explicit TwoDisks(std::uint64_t seed)
      : random_(seed), was(volume_start + 4000, sector), is(volume_start + 4000, sector) {
    for (std::size_t i = 0; i < 40; ++i) add_file(i);
  }

 private:
  Random random_;
  std::uint64_t free_then_ = 0, free_now_ = 2000;

  void add_file(std::size_t i) {
    Placed p{};
    const bool long_zeros = i % 20 == 7;  // its hash takes them by their length
    p.valid = 1 + random_.below(5000);
    p.info.size = p.valid + (long_zeros ? std::uint64_t{5} << 30 : random_.below(2) * 900);
    p.moved = random_.below(2) == 0;
    p.written = random_.below(4) == 0;
    p.linked = random_.below(4) == 0;
    Bytes bytes(sector);
    for (std::uint64_t left = div_up<std::uint64_t>(p.valid, sector); left > 0;) {
      const std::uint64_t count = 1 + random_.below(left);
      left -= count;
      if (left > 0 && random_.below(4) == 0) {
        p.then.push_back({FileTree::hole, count});
        p.now.push_back({FileTree::hole, count});
        continue;
      }
      p.then.push_back({free_then_, count});
      p.now.push_back({p.moved ? free_now_ : free_then_, count});
      for (std::uint64_t k = 0; k < count; ++k) {
        random_.fill(bytes);
        was.write(volume_start + p.then.back().first + k, bytes);
        if (p.moved && random_.below(30) == 0) {  // lost on the way: zeros are there
          p.bad.push_back(volume_start + p.then.back().first + k);
          bytes.assign(sector, 0);
        }
        is.write(volume_start + p.now.back().first + k, bytes);
      }
      free_then_ += count + random_.below(2);
      free_now_ += count;
    }
    if (p.written)
      for (const SectorRange& r : p.then) {
        if (r.first < FileTree::hole) written.add({volume_start + r.first, 1});
      }
    files.push_back(std::move(p));
  }

 public:
  MemoryDevice was, is;
  SectorSet written;
  std::vector<Placed> files;

  // Every file is there under two names where it is linked.
  [[nodiscard]] Manifest recorded(std::vector<SectorRange> Placed::*extents) const {
    Manifest out;
    out.proof = Proof::places;
    ManifestVolume& v = out.volumes.emplace_back();
    v.number = 1;
    v.start = volume_start;
    v.sectors = 4000;
    for (std::size_t i = 0; i < files.size(); ++i) {
      const Placed& p = files[i];
      const auto id = v.tree.add(FileTree::root, to_utf16(fmt::format("{:02}", i)), {}, p.info);
      v.tree.set_extents(id, p.*extents);
      v.tree.set_valid_bytes(id, p.valid);
      if (!p.linked) continue;
      const auto other =
          v.tree.add(FileTree::root, to_utf16(fmt::format("{:02} too", i)), {}, p.info);
      v.tree.set_extents(other, p.*extents);
      v.tree.set_valid_bytes(other, p.valid);
      v.tree.set_link(other, id);
    }
    v.digests.resize(v.tree.size());
    v.placed.resize(v.tree.size());
    for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
      if (const auto place = tree::place_digest(v.tree, id, v.start, sector)) {
        v.digests[id] = *place;
        v.placed[id] = true;
      }
    }
    return out;
  }

  [[nodiscard]] Digest contents_of(const Placed& p) const {
    Sha256 sha;
    std::uint64_t left = p.valid, zeros = p.info.size - p.valid;
    for (const SectorRange& r : p.now) {
      if (r.first >= FileTree::hole) zeros += std::min(left, r.count * sector);
    }
    const bool by_length = zeros >= std::uint64_t{1} << 32;
    std::uint64_t open = 0;
    const auto add_zeros = [&](std::uint64_t count) {
      if (by_length) {
        open += count;
      } else {
        sha.add(Bytes(count));
      }
    };
    const auto end_hole = [&] {
      if (open > 0) sha.add(fmt::format("hole {}\n", open));
      open = 0;
    };
    for (const SectorRange& r : p.now) {
      const std::uint64_t n = std::min(left, r.count * sector);
      left -= n;
      if (r.first >= FileTree::hole) {
        add_zeros(n);
        continue;
      }
      end_hole();
      sha.add(ByteView(is.read(volume_start + r.first, r.count)).first(n));
    }
    add_zeros(p.info.size - p.valid);
    end_hole();
    return sha.finish();
  }
};

}  // namespace

TEST_CASE("unsettled: what moved or was written over is hashed on both sides, and nothing else") {
  const support::Folder folder;
  QuietProgress quiet;
  std::size_t hashed = 0, stayed = 0, damaged = 0;
  for (std::uint64_t seed = 1; seed < 9; ++seed) {
    CAPTURE(seed);
    const TwoDisks disks(seed);
    FaultPlan plan;
    for (const Placed& p : disks.files) {
      for (const std::uint64_t lba : p.bad) plan.bad_reads.add({lba, 1});
    }
    const auto clone = disks.was.clone();
    const FaultDevice was(*clone, plan);
    const Manifest before = disks.recorded(&Placed::then);
    tree::Recording aside = tree::Recording::put_aside(before, folder.path());
    tree::Recording at_hand(before);
    for (tree::Recording* recorded : {&aside, &at_hand}) {
      Manifest after = disks.recorded(&Placed::now);
      tree::hash_unsettled(*recorded, was, after, disks.is, {{}, disks.written, quiet});
      const Manifest then = recorded->bring_back();
      const ManifestVolume &a = then.volumes.at(0), &b = after.volumes.at(0);
      FileTree::Id id = 1;  // both in the order of the names
      std::uint64_t with_damage = 0;
      for (const Placed& p : disks.files) {
        const bool has_place = !p.moved && !p.written;
        for (unsigned name = 0; name < (p.linked ? 2u : 1u); ++name, ++id) {
          CAPTURE(b.tree.path(id));
          REQUIRE(a.tree.path(id) == b.tree.path(id));
          CHECK(a.is_placed(id) == has_place);
          CHECK(b.is_placed(id) == has_place);
          CHECK(a.digests[id] == b.digests[id]);
          if (!has_place) CHECK(a.digests[id] == disks.contents_of(p));
          CHECK((a.unreadable.count(id) != 0) == !p.bad.empty());
          with_damage += p.bad.empty() ? 0 : 1;
          ++(has_place ? stayed : hashed);
        }
      }
      CHECK(recorded->unreadable_files() == with_damage);
      damaged += with_damage;
    }
  }
  CHECK(hashed > 100);
  CHECK(stayed > 100);
  CHECK(damaged > 10);
}

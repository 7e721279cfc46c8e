// Sets of sectors, held against one flag for each sector.

#include <nuvrat/error.h>
#include <nuvrat/sectors.h>

#include "support.h"

using namespace nuvrat;

namespace {

constexpr std::uint64_t flagged = 40000;

class Flags {
 public:
  void set(SectorRange range, bool value) {
    for (std::uint64_t i = range.first; i < range.end(); ++i) flags_[i] = value;
  }
  [[nodiscard]] bool has(std::uint64_t lba) const { return flags_[lba]; }
  [[nodiscard]] std::vector<SectorRange> ranges(bool value, SectorRange within) const {
    std::vector<SectorRange> out;
    for (std::uint64_t i = within.first; i < within.end(); ++i) {
      if (flags_[i] != value) continue;
      if (!out.empty() && out.back().end() == i)
        ++out.back().count;
      else
        out.push_back({i, 1});
    }
    return out;
  }

 private:
  std::vector<bool> flags_ = std::vector<bool>(flagged);
};

SectorRange drawn(Random& random, std::uint64_t longest) {
  const std::uint64_t first = random.below(flagged);
  return {first, random.below(std::min(longest, flagged - first) + 1)};
}

void check_same(const SectorSet& set, const Flags& flags) {
  const SectorRange all{0, flagged};
  const std::vector<SectorRange> wanted = flags.ranges(true, all);
  CHECK(set.ranges() == wanted);
  CHECK(set.empty() == wanted.empty());
  CHECK(set.gaps(all).ranges() == flags.ranges(false, all));
  std::uint64_t count = 0;
  for (const SectorRange& r : wanted) count += r.count;
  CHECK(set.count() == count);
}

}  // namespace

TEST_CASE("sectors: a set is what one flag for each sector says") {
  Random random(41);
  for (int round = 0; round < 10; ++round) {
    CAPTURE(round);
    SectorSet set;
    Flags flags;
    // From many ranges of one sector to a few long ones, and back.
    for (int i = 0; i < 12000; ++i) {
      const bool adds = random.below(round % 2 == 0 ? 3 : 2) > 0;
      const SectorRange range = drawn(random, i % 2000 == 1999 ? 9000 : 2);
      adds ? set.add(range) : set.remove(range);
      flags.set(range, adds);
      if (i % 1200 == 0) check_same(set, flags);
      const SectorRange asked = drawn(random, 30);
      const auto here = flags.ranges(true, asked);
      const auto overlap = set.first_overlap(asked);
      CHECK(overlap.has_value() == !here.empty());
      if (overlap) CHECK(*overlap == here.front());
      CHECK(set.contains(asked) == flags.ranges(false, asked).empty());
      if (asked.count > 0) CHECK(set.gaps(asked).ranges() == flags.ranges(false, asked));
    }
    check_same(set, flags);
  }
}

TEST_CASE("sectors: sets together and without one another, however many ranges either has") {
  Random random(43);
  for (int round = 0; round < 60; ++round) {
    CAPTURE(round);
    SectorSet a, b;
    Flags in_a, in_b, both, only_a;
    const auto fill = [&random](SectorSet& set, Flags& flags, std::uint64_t ranges) {
      for (std::uint64_t i = 0; i < ranges; ++i) {
        const SectorRange range = drawn(random, 3);
        set.add(range);
        flags.set(range, true);
      }
    };
    fill(a, in_a, random.below(3) * random.below(6000));
    fill(b, in_b, random.below(3) * random.below(6000));
    for (std::uint64_t i = 0; i < flagged; ++i) {
      both.set({i, 1}, in_a.has(i) || in_b.has(i));
      only_a.set({i, 1}, in_a.has(i) && !in_b.has(i));
    }
    SectorSet sum = a, rest = a;
    sum.add(b);
    rest.remove(b);
    check_same(sum, both);
    check_same(rest, only_a);
    // Built in another order, the same set.
    SectorSet again;
    const auto parts = sum.ranges();
    for (auto it = parts.rbegin(); it != parts.rend(); ++it) again.add(*it);
    CHECK(again == sum);
    CHECK((again == a) == (sum.ranges() == a.ranges()));
  }
}

TEST_CASE("sectors: the last sectors that can be counted, and none beyond") {
  constexpr std::uint64_t most = ~std::uint64_t{0};
  SectorSet set{{most - 1, 1}};
  CHECK(set.contains({most - 1, 1}));
  CHECK(set.first_overlap({0, most}) == SectorRange{most - 1, 1});
  CHECK(set.gaps({0, most}).ranges() == std::vector<SectorRange>{{0, most - 1}});
  set.add({0, most - 1});
  CHECK(set.ranges() == std::vector<SectorRange>{{0, most}});
  set.remove({5, 1});
  CHECK(set.count() == most - 1);
  CHECK_THROWS_AS(set.add({most, 2}), Error);
  CHECK_THROWS_AS(set.remove({most - 1, 9}), Error);
  CHECK(set.count() == most - 1);
  set.add({7, 0});
  set.remove({7, 0});
  CHECK(set.contains({5, 0}));
  CHECK_FALSE(set.first_overlap({7, 0}));
  CHECK(set.count() == most - 1);
}

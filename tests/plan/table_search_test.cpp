// Random disks: there and back again, and a planner whose yes and no are held against a search over
// everything.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "support.h"

using namespace nuvrat;
using support::utc;

namespace {

constexpr std::uint64_t customary_gaps[] = {0, 1, 62, 2047};

// Random partitions one behind the other; logicals are neighbours and have room for their EBRs.
Layout random_mbr(Random& random, std::uint32_t sector_size, bool tight) {
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.sector_size = sector_size;
  layout.disk_signature = static_cast<std::uint32_t>(random.next() | 1);
  const auto gap = [&] { return tight ? random.below(3) : customary_gaps[random.below(4)]; };
  const std::uint8_t types[] = {0x06, 0x07, 0x0B, 0x0C, 0x0E, 0x83, 0x82, 0x27, 0xAB, 0x16, 0xEF};
  const unsigned front = static_cast<unsigned>(random.below(3));
  const unsigned logicals = static_cast<unsigned>(random.below(tight ? 4 : 6));
  const unsigned back = static_cast<unsigned>(random.below(4 - front - (logicals > 0 ? 1 : 0) + 1));
  std::uint64_t at = 1 + gap() + (tight ? 0 : random.below(2) * 40);
  unsigned slot = 1;
  const auto add = [&](Role role, unsigned number) -> Partition& {
    Partition p;
    p.number = number;
    p.role = role;
    p.start = at;
    p.sectors = 1 + random.below(tight ? 3 : 300);
    p.type = types[random.below(std::size(types))];
    at += p.sectors;
    layout.partitions.push_back(p);
    return layout.partitions.back();
  };
  for (unsigned i = 0; i < front; ++i) {
    add(Role::primary, slot++);
    at += gap();
  }
  if (logicals > 0) {
    Partition extended;
    extended.role = Role::extended;
    extended.number = slot++;
    extended.type = std::uint8_t{random.below(2) == 0 ? std::uint8_t{0x05} : std::uint8_t{0x0F}};
    extended.start = at;
    for (unsigned i = 0; i < logicals; ++i) {
      const std::uint64_t ebr = at;
      at += 1 + gap();
      add(Role::logical, 5 + i).table_sector = ebr;
    }
    extended.sectors = at - extended.start;
    layout.partitions.push_back(extended);
    at += gap();
  }
  for (unsigned i = 0; i < back; ++i) {
    add(Role::primary, slot++);
    at += gap();
  }
  layout.disk_sectors = at + random.below(2) * 40 + 1;
  if (!layout.partitions.empty() && random.below(3) == 0) {
    for (Partition& p : layout.partitions) {
      if (p.role != Role::primary) continue;
      p.active = true;
      break;
    }
  }
  layout.sort();
  return layout;
}

std::unique_ptr<MemoryDevice> disk_with(const Layout& layout, Random& random) {
  auto device = support::disk(layout.disk_sectors, layout.sector_size);
  write_new_table(*device, layout);
  for (const Partition& p : layout.data_partitions()) {
    Bytes noise(p.sectors * layout.sector_size);
    random.fill(ByteSpan(noise).first(64));
    noise.back() = 0x42;
    device->write(p.start, noise);
  }
  return device;
}

// The steps themselves, guard included, without a case.
void run_steps(MemoryDevice& device, const Assessment& assessment) {
  QuietProgress quiet;
  for (const Step& step : assessment.steps) {
    Overlay overlay(device);
    const auto rewrite = make_rewrite(step, device);
    const Inspection inspection = Engine::inspect(*rewrite, overlay, owned_sectors);
    Engine(device, quiet).run(*rewrite, inspection);
  }
  const TableReading now = read_table(device);
  CHECK(now.layout == assessment.after);
  CHECK_FALSE(has_errors(now.findings));
}

std::vector<Goal> role_goals(const Layout& wanted, const Layout& now) {
  std::vector<Goal> out;
  for (const Partition& p : wanted.data_partitions()) {
    for (const Partition& q : now.data_partitions()) {
      if (q.start == p.start) out.push_back(RoleGoal{q.number, p.role});
    }
  }
  return out;
}

// Starts, lengths, roles, types, active flags in disk order, and the contents.
void must_be_back(const Layout& was, const MemoryDevice& before, MemoryDevice& device) {
  const std::vector<Partition> old = was.data_partitions();
  const std::vector<Partition> now = read_table(device).layout.data_partitions();
  REQUIRE(now.size() == old.size());
  for (std::size_t i = 0; i < old.size(); ++i) {
    CHECK(now[i].range() == old[i].range());
    CHECK(now[i].role == old[i].role);
    CHECK(now[i].type == old[i].type);
    CHECK(now[i].active == old[i].active);
    CHECK(device.read(old[i].start, old[i].sectors) == before.read(old[i].start, old[i].sectors));
  }
}

// Every choice of logicals and of EBR sectors, one after the other.
struct Search {
  std::vector<Partition> parts;
  std::vector<bool> free;  // by sector

  [[nodiscard]] bool place(const std::vector<std::size_t>& logicals, std::size_t k,
                           std::uint64_t from, std::vector<bool>& used) const {
    if (k == logicals.size()) return true;
    for (std::uint64_t s = from; s < parts[logicals[k]].start; ++s) {
      if (!free[s] || used[s]) continue;
      used[s] = true;
      if (place(logicals, k + 1, from, used)) return true;
      used[s] = false;
    }
    return false;
  }

  [[nodiscard]] bool works(unsigned chosen) const {
    std::vector<std::size_t> logicals;
    std::size_t primaries = 0;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      if ((chosen >> i & 1) != 0) {
        logicals.push_back(i);
      } else {
        ++primaries;
      }
    }
    if (logicals.empty()) return primaries <= 4;
    if (primaries > 3) return false;
    const std::uint64_t end = parts[logicals.back()].range().end();
    for (std::uint64_t start = 1; start < parts[logicals.front()].start; ++start) {
      // The container from here to the last logical's end, no primary inside it.
      bool clear = free[start];
      for (std::size_t i = 0; i < parts.size(); ++i) {
        const bool inside = parts[i].range().overlaps({start, end - start});
        clear &= !inside || (chosen >> i & 1) != 0;
      }
      std::vector<bool> used(free.size());
      if (clear && place(logicals, 0, start, used)) return true;
    }
    return false;
  }
};

Search search_over(Device& device) {
  Search out;
  const TableReading table = read_table(device);
  SectorSet used = table.owned;
  used.add(table.copies);
  out.parts = table.layout.data_partitions();
  for (const Partition& p : out.parts) used.add(p.range());
  for (std::uint64_t s = 0; s < device.sectors(); ++s) out.free.push_back(!used.contains({s, 1}));
  return out;
}

}  // namespace

namespace {

// Random disks, to GPT and back, and from primary to logical and back.
void there_and_back(std::uint64_t seed) {
  Random random(support::seed(seed));
  unsigned both_ways = 0, refused = 0, roles = 0;
  const unsigned rounds = support::is_long() ? 4750 : 2000;
  for (unsigned round = 0; round < rounds; ++round) {
    const Layout was = random_mbr(random, random.below(2) == 0 ? 512 : 4096, false);
    const auto before = disk_with(was, random);
    CAPTURE(round);
    {
      const auto device = before->clone();
      const Assessment there = assess(*device, {parse_goal("table=gpt")}, utc(), random);
      if (!there.in_reach()) {
        CHECK(device->same_as(*before));
        ++refused;
      } else {
        run_steps(*device, there);
        CHECK(support::judge_gpt(*device).empty());
        std::vector<Goal> goals = role_goals(was, read_table(*device).layout);
        goals.push_back(parse_goal("table=mbr"));
        const Assessment back = assess(*device, goals, utc(), random);
        for (const Obstacle& o : back.obstacles) MESSAGE(o.text);
        REQUIRE(back.in_reach());
        run_steps(*device, back);
        must_be_back(was, *before, *device);
        ++both_ways;
      }
    }
    const std::vector<Partition> parts = was.data_partitions();
    if (parts.empty()) continue;
    const Partition& p = parts[random.below(parts.size())];
    const auto device = before->clone();
    const Role other = p.role == Role::logical ? Role::primary : Role::logical;
    const Assessment there = assess(*device, {RoleGoal{p.number, other}}, utc(), random);
    if (!there.in_reach() || p.active) continue;
    run_steps(*device, there);
    const Layout now = read_table(*device).layout;
    const Assessment back = assess(*device, role_goals(was, now), utc(), random);
    for (const Obstacle& o : back.obstacles) MESSAGE(o.text);
    REQUIRE(back.in_reach());
    run_steps(*device, back);
    must_be_back(was, *before, *device);
    ++roles;
  }
  MESSAGE(both_ways << " disks to GPT and back, " << refused << " refused for want of room; "
                    << roles << " from one role to the other and back");
  CHECK(both_ways > rounds / 2);
  CHECK(roles > rounds / 10);
}

}  // namespace

TEST_CASE("arrange: random disks go to GPT and back, and roles too, 1 of 2") {
  there_and_back(2031);
}
TEST_CASE("arrange: random disks go to GPT and back, and roles too, 2 of 2") {
  there_and_back(2032);
}

TEST_CASE("arrange: yes and no are right, by a search over all arrangements, and remedies work") {
  Random random(support::seed(77));
  unsigned yes = 0, no = 0, remedies = 0;
  for (int round = 0; round < 3000; ++round) {
    const Layout was = random_mbr(random, 512, true);
    const std::vector<Partition> parts = was.data_partitions();
    if (parts.empty()) continue;
    const auto device = disk_with(was, random);
    const Search search = search_over(*device);
    const unsigned chosen = static_cast<unsigned>(random.below(1u << parts.size()));
    std::vector<Goal> goals;
    bool same = true;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      const Role role = (chosen >> i & 1) != 0 ? Role::logical : Role::primary;
      same &= role == parts[i].role;
      goals.push_back(RoleGoal{parts[i].number, role});
    }
    if (same) continue;
    const Assessment a = assess(*device, goals, utc(), random);
    CAPTURE(round);
    CHECK(a.in_reach() == search.works(chosen));
    (a.in_reach() ? yes : no) += 1;
    if (a.in_reach()) {
      run_steps(*device, a);
      continue;
    }
    // One goal alone: what is proposed instead must work.
    const auto before = device->clone();
    const Assessment one = assess(*device, {goals[random.below(goals.size())]}, utc(), random);
    CHECK(device->same_as(*before));
    for (const Obstacle& o : one.obstacles) {
      CHECK(!o.remedy.empty());
      if (o.goals.empty()) continue;
      const Assessment other = assess(*device, o.goals, utc(), random);
      for (const Obstacle& x : other.obstacles) MESSAGE(x.text);
      REQUIRE(other.in_reach());
      run_steps(*device, other);
      ++remedies;
      break;
    }
  }
  MESSAGE(yes << " in reach, " << no << " not, as the search says; " << remedies
              << " remedies followed");
  CHECK(yes > 200);
  CHECK(no > 500);
  CHECK(remedies > 200);
}

TEST_CASE("arrange: table=mbr from a GPT says yes exactly when some arrangement works") {
  Random random(support::seed(99));
  unsigned yes = 0, no = 0, shortened = 0;
  for (int round = 0; round < 1500; ++round) {
    Layout layout;
    layout.kind = TableKind::gpt;
    layout.sector_size = 4096;
    layout.first_usable = 6;
    std::uint64_t at = 6 + random.below(3);
    const unsigned count = 4 + static_cast<unsigned>(random.below(4));
    for (unsigned i = 0; i < count; ++i) {
      Partition p;
      p.number = i + 1;
      p.role = Role::gpt;
      p.start = at;
      p.sectors = 2 + random.below(3);
      p.type = basic_data_guid();
      p.unique_id = Guid::random(random);
      at += p.sectors + (random.below(2) == 0 ? 0 : random.below(3));
      layout.partitions.push_back(p);
    }
    layout.disk_sectors = at + 10;
    layout.last_usable = layout.disk_sectors - 6;
    layout.disk_guid = Guid::random(random);
    MemoryDevice device(layout.disk_sectors, 4096);
    write_new_table(device, layout);
    const Search search = search_over(device);
    bool possible = false;
    for (unsigned chosen = 0; chosen < 1u << count; ++chosen) possible |= search.works(chosen);
    const Assessment a = assess(device, {parse_goal("table=mbr")}, utc(), random);
    CAPTURE(round);
    CHECK(a.in_reach() == possible);
    (possible ? yes : no) += 1;
    if (a.in_reach()) run_steps(device, a);
    // Follow the remedy: the partition that it names becomes that much shorter, until it works.
    for (int tries = 0; !a.in_reach() && tries < 8; ++tries) {
      const Assessment again = assess(device, {parse_goal("table=mbr")}, utc(), random);
      if (again.in_reach()) {
        ++shortened;
        break;
      }
      const Obstacle& o = again.obstacles.at(0);
      REQUIRE(o.partition > 1);
      Partition& left = *layout.find(o.partition - 1);
      if (left.sectors <= o.missing_sectors) break;
      left.sectors -= o.missing_sectors;
      write_new_table(device, layout);
    }
  }
  MESSAGE(yes << " in reach, " << no << " not; " << shortened
              << " in reach after the remedy was followed");
  CHECK(yes > 200);
  CHECK(no > 200);
  CHECK(shortened > 100);
}

namespace {

// FAT volumes with little on them, in partitions that lie close together.
std::unique_ptr<MemoryDevice> volumes_close_together(Random& random) {
  Layout layout = random_mbr(random, 512, true);
  std::uint64_t moved = 40;  // in front of everything
  for (Partition& p : layout.partitions) {
    p.start += moved;
    if (p.table_sector) *p.table_sector += moved;
    if (p.role == Role::extended) continue;
    const std::uint64_t longer = 200 + random.below(200);
    p.sectors += longer;
    moved += longer + random.below(2) * random.below(60);
    p.type = std::uint8_t{0x01};
  }
  std::uint64_t end = 0;
  for (const Partition& p : layout.data_partitions()) end = p.range().end();
  for (Partition& p : layout.partitions) {
    if (p.role != Role::extended) continue;
    for (const Partition& q : layout.partitions) {
      if (q.role == Role::logical) p.sectors = q.range().end() - p.start;
    }
  }
  layout.disk_sectors = end + 1 + random.below(100);
  auto disk = support::disk(layout.disk_sectors, 512);
  write_new_table(*disk, layout);
  for (const Partition& p : layout.data_partitions()) {
    WritableWindow window(*disk, p.range());
    FatFormat format;
    format.kind = VolumeKind::fat12;
    format.cluster_sectors = 1;
    format.hidden_sectors = p.start;
    FatWriter writer(window, format);
    writer.add_file("TIDE.TXT", Bytes(700, 0x54));
    writer.finish();
  }
  return disk;
}

}  // namespace

TEST_CASE("arrange: yes and no about sizes, starts and deletions are right, by the same search") {
  Random random(support::seed(78));
  unsigned yes = 0, no = 0;
  for (int round = 0; round < 1200; ++round) {
    CAPTURE(round);
    const auto disk = volumes_close_together(random);
    const TableReading table = read_table(*disk);
    REQUIRE(table.findings.empty());
    Search search = search_over(*disk);
    if (search.parts.empty()) continue;
    const std::size_t chosen = random.below(search.parts.size());
    Partition& p = search.parts[chosen];
    const Partition was = p;
    const std::uint64_t by = 1 + random.below(120);
    Goal goal = GoneGoal{p.number};
    switch (random.below(4)) {
      case 0:
        break;
      case 1:
        goal = SizeGoal{.partition = p.number, .bytes = (p.sectors + by) * 512};
        p.sectors += by;
        break;
      case 2:
        goal = SizeGoal{.partition = p.number, .bytes = (p.sectors - by) * 512};
        p.sectors -= by;
        break;
      default:
        goal = FrontGoal{p.number, by * 512};
        p.start -= std::min(p.start, std::max<std::uint64_t>(by, 16));
        p.sectors += was.start - p.start;
        break;
    }
    CAPTURE(goal.text());
    // What is possible, without a planner: no partition over another, and a chain where one is
    // made.
    bool possible = p.start >= 34 && p.range().end() <= disk->sectors();
    for (std::size_t i = 0; i < search.parts.size(); ++i)
      possible &= i == chosen || !p.range().overlaps(search.parts[i].range());
    const Partition* container = table.layout.extended();
    const bool new_chain = was.role == Role::logical ||
                           (container != nullptr && p.range().overlaps(container->range()));
    for (std::uint64_t s = p.start; s < std::min(p.range().end(), disk->sectors()); ++s)
      search.free[s] = false;
    if (goal.as<GoneGoal>() != nullptr) {
      possible = true;
      search.parts.erase(search.parts.begin() + static_cast<std::ptrdiff_t>(chosen));
    }
    unsigned logicals = 0;
    for (std::size_t i = 0; i < search.parts.size(); ++i)
      logicals |= search.parts[i].role == Role::logical ? 1u << i : 0;
    if (possible && new_chain) possible = search.works(logicals);
    const Assessment a = assess(*disk, {goal}, utc(), random);
    for (const Obstacle& o : a.obstacles) INFO(o.text);
    CHECK(a.in_reach() == possible);
    (a.in_reach() ? yes : no) += 1;
  }
  MESSAGE(yes << " in reach, " << no << " not, as the search says");
  CHECK(yes > 300);
  CHECK(no > 150);
}

// Where partitions are before and after: one that begins where another began is not that one.

#include <doctest/doctest.h>

#include <nuvrat/assessment.h>
#include <nuvrat/expected_change.h>

using namespace nuvrat;

namespace {

Partition partition(PartitionId id, unsigned number, std::uint64_t start) {
  Partition p;
  p.id = id;
  p.number = number;
  p.start = start;
  p.sectors = 100;
  return p;
}

ManifestVolume volume(unsigned number, std::uint64_t start, const char16_t* file) {
  ManifestVolume v;
  v.number = number;
  v.start = start;
  v.sectors = 100;
  (void)v.tree.add(FileTree::root, file, {}, FileTree::Info{});
  v.digests.resize(v.tree.size());
  return v;
}

constexpr PartitionId first_id{1}, second_id{2}, third_id{3}, new_id{4};

// The first goes to the end, the second into its place, a new one into the second's; the third is
// to go.
Assessment everybody_moves() {
  Assessment a;
  a.before.partitions = {partition(first_id, 1, 100), partition(second_id, 2, 300),
                         partition(third_id, 3, 500)};
  a.after.partitions = {partition(second_id, 2, 100), partition(new_id, 1, 300),
                        partition(first_id, 3, 500)};
  using Kind = ExpectedChange::Kind;
  a.changes = {{.kind = Kind::begins, .partition = first_id, .size = 500},
               {.kind = Kind::begins, .partition = second_id, .size = 100},
               {.kind = Kind::gone, .partition = third_id},
               {.kind = Kind::added, .partition = new_id}};
  return a;
}

}  // namespace

TEST_CASE("expectation: partitions are known though others begin where they began") {
  const Assessment a = everybody_moves();
  const Expectation e = a.expectation();
  CHECK(e.start_after(100) == 500);
  CHECK(e.start_after(300) == 100);
  CHECK(e.start_after(500) == std::nullopt);
  CHECK(e.start_before(100) == 300);
  CHECK(e.start_before(300) == std::nullopt);
  CHECK(e.start_before(500) == 100);
  CHECK(e.start_after(700) == 700);  // no plan says anything of it
  CHECK(e.id_before(100) == first_id);
  CHECK(e.id_after(100) == second_id);
  CHECK(e.first_start(new_id) == 300);
  CHECK(e.first_start(third_id) == 500);
  const std::vector<Renumbering> numbers = a.numbers();
  REQUIRE(numbers.size() == 2);
  CHECK(numbers[0].before == 1);
  CHECK(numbers[0].after == 3);
  CHECK(numbers[1].after == 2);

  Manifest before, after;
  before.volumes = {volume(1, 100, u"tides"), volume(2, 300, u"winds"), volume(3, 500, u"old")};
  after.volumes = {volume(2, 100, u"winds"), volume(3, 500, u"tides")};
  ManifestVolume empty;
  empty.number = 1;
  empty.start = 300;
  empty.digests.resize(1);
  after.volumes.insert(after.volumes.begin() + 1, empty);
  const Comparison done = compare_expected(before, after, e);
  CHECK(done.equal());
  CHECK(done.planned_count == 4);
  CHECK(done.unchanged == 2);
  CHECK(done.deleted == 1);

  // As if only the table had changed: contents stayed where they were.
  after.volumes[0] = volume(2, 100, u"tides");
  after.volumes[2] = volume(3, 500, u"old");
  CHECK_FALSE(compare_expected(before, after, e).equal());
}

TEST_CASE("ids: a table that is read gives them in disk order, and says nothing by them") {
  Layout layout;
  layout.partitions = {partition(PartitionId::none, 3, 100), partition(PartitionId::none, 4, 300),
                       partition(PartitionId::none, 5, 400)};
  layout.partitions[1].role = Role::extended;
  const Layout as_it_was = layout;
  layout.give_ids();
  CHECK(layout == as_it_was);
  CHECK(layout.find(PartitionId{1})->number == 3);
  CHECK(layout.find(PartitionId{2})->number == 5);
  CHECK(layout.find(PartitionId::none) == nullptr);
  CHECK(layout.at(300) == nullptr);
  CHECK(layout.at(400)->number == 5);
}

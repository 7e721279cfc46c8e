#include <algorithm>

#include <fmt/format.h>

#include <nuvrat/expected_change.h>

namespace nuvrat {
namespace {

template <typename Volumes>
auto* volume_at(Volumes& volumes, std::uint64_t start) {
  const auto it = std::find_if(volumes.begin(), volumes.end(),
                               [start](const ManifestVolume& v) { return v.start == start; });
  return it == volumes.end() ? nullptr : &*it;
}

bool came(const ExpectedChange& change, const ManifestVolume* before, const ManifestVolume* after) {
  if (after == nullptr) return false;
  const FileTree::Id id = after->tree.find(change.path);
  if (id == FileTree::none) return false;
  switch (change.kind) {
    case ExpectedChange::Kind::resized:
      return after->tree.info(id).size == change.size;
    case ExpectedChange::Kind::added:
      return before != nullptr && before->tree.find(change.path) == FileTree::none;
  }
  return false;
}

std::string words_of(const ExpectedChange& change) {
  switch (change.kind) {
    case ExpectedChange::Kind::resized:
      return fmt::format("{} bytes now, as long as its chain", change.size);
    case ExpectedChange::Kind::added:
      return "not there before, now a folder";
  }
  return "";
}

DifferenceKind kind_of(const ExpectedChange& change) {
  return change.kind == ExpectedChange::Kind::resized ? DifferenceKind::size
                                                      : DifferenceKind::extra;
}

}  // namespace

const char* name_of(ExpectedChange::Kind kind) {
  return kind == ExpectedChange::Kind::resized ? "resized" : "added";
}

void expect(const std::vector<ExpectedChange>& changes, Manifest& recorded) {
  for (const ExpectedChange& change : changes) {
    ManifestVolume* v = volume_at(recorded.volumes, change.start);
    if (change.kind != ExpectedChange::Kind::resized || v == nullptr) continue;
    const FileTree::Id id = v->tree.find(change.path);
    if (id == FileTree::none) continue;
    v->tree.set_size(id, change.size);  // its hash is of what could be read, then as now
    v->unreadable.erase(id);
  }
}

Comparison compare_expected(const Manifest& expected, const Manifest& after,
                            const std::vector<ExpectedChange>& changes) {
  Comparison out = compare(expected, after);
  for (const ExpectedChange& change : changes) {
    const ManifestVolume* before = volume_at(expected.volumes, change.start);
    const ManifestVolume* now = volume_at(after.volumes, change.start);
    const unsigned number = now != nullptr ? now->number : 0;
    const Difference planned{kind_of(change), number, change.path, words_of(change)};
    if (!came(change, before, now)) {
      ++out.count;
      out.differences.push_back(planned);
      out.differences.back().text = "was to be changed, and was not: " + planned.text;
      continue;
    }
    out.count -= std::erase_if(out.differences, [&](const Difference& d) {
      return d.kind == planned.kind && d.number == number && d.path == change.path;
    });
    out.planned.push_back(planned);
  }
  return out;
}

}  // namespace nuvrat

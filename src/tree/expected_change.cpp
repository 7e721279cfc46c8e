#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/text.h>

#include "tree/comparer.h"

namespace nuvrat {
using namespace tree;
namespace {

template <typename Volumes>
auto* volume_at(Volumes& volumes, std::uint64_t start) {
  const auto it = std::find_if(volumes.begin(), volumes.end(),
                               [start](const ManifestVolume& v) { return v.start == start; });
  return it == volumes.end() ? nullptr : &*it;
}

const char* kind_words(ExpectedChange::Kind kind) {
  switch (kind) {
    case ExpectedChange::Kind::resized:
      return "as long as its chain";
    case ExpectedChange::Kind::added:
      return "not there before, now a folder";
    case ExpectedChange::Kind::gone:
      return "there before, and not to be there now";
    case ExpectedChange::Kind::retimed:
      return "times become the nearest that the volume can say";
    case ExpectedChange::Kind::renamed:
      return "has another name now";
    case ExpectedChange::Kind::relabelled:
      return "the label is another one now";
    case ExpectedChange::Kind::begins:
      return "begins at another sector now";
    case ExpectedChange::Kind::written:
      return "has the contents that were planned";
    case ExpectedChange::Kind::folder:
      return "not there before, now a folder";
    case ExpectedChange::Kind::opened:
      return "could not be read before, and can be now";
  }
  return "";
}

}  // namespace

DifferenceKind tree::kind_of(ExpectedChange::Kind kind) {
  switch (kind) {
    case ExpectedChange::Kind::resized:
      return DifferenceKind::size;
    case ExpectedChange::Kind::added:
      return DifferenceKind::extra;
    case ExpectedChange::Kind::gone:
    case ExpectedChange::Kind::renamed:
      return DifferenceKind::missing;
    case ExpectedChange::Kind::retimed:
      return DifferenceKind::times;
    case ExpectedChange::Kind::relabelled:
      return DifferenceKind::label;
    case ExpectedChange::Kind::begins:
      return DifferenceKind::volume;
    case ExpectedChange::Kind::written:
      return DifferenceKind::content;
    case ExpectedChange::Kind::folder:
      return DifferenceKind::extra;
    case ExpectedChange::Kind::opened:
      return DifferenceKind::volume;
  }
  return DifferenceKind::content;
}

std::string tree::words_of(const ExpectedChange& c) {
  std::string text = kind_words(c.kind);
  if (c.kind == ExpectedChange::Kind::added && c.path.empty()) text = "a new partition";
  if (c.kind == ExpectedChange::Kind::gone && c.path.empty())
    text = "the partition was to be deleted, and is";
  if (c.kind == ExpectedChange::Kind::begins)
    text = fmt::format("begins at sector {} now, and at {} before", c.size, c.start);
  if (c.kind == ExpectedChange::Kind::resized) text = fmt::format("{} bytes now, {}", c.size, text);
  if (c.kind == ExpectedChange::Kind::written)
    text = fmt::format("{} bytes now, SHA-256 {}, as planned", c.size, c.text.substr(0, 16));
  else if (c.kind == ExpectedChange::Kind::opened)
    text = fmt::format("a volume with {}, which {}", title_of(kind_named(c.text)), text);
  else if (!c.text.empty())
    text += ": '" + printable(c.text) + "'";
  return text;
}

const char* name_of(ExpectedChange::Kind kind) {
  switch (kind) {
    case ExpectedChange::Kind::resized:
      return "resized";
    case ExpectedChange::Kind::added:
      return "added";
    case ExpectedChange::Kind::gone:
      return "gone";
    case ExpectedChange::Kind::retimed:
      return "retimed";
    case ExpectedChange::Kind::renamed:
      return "renamed";
    case ExpectedChange::Kind::relabelled:
      return "relabelled";
    case ExpectedChange::Kind::begins:
      return "begins";
    case ExpectedChange::Kind::written:
      return "written";
    case ExpectedChange::Kind::folder:
      return "folder";
    case ExpectedChange::Kind::opened:
      return "opened";
  }
  return "resized";
}

std::optional<std::uint64_t> start_after(const std::vector<ExpectedChange>& changes,
                                         std::uint64_t start) {
  for (const ExpectedChange& c : changes) {
    if (c.start != start || !c.path.empty()) continue;
    if (c.kind == ExpectedChange::Kind::begins) return c.size;
    if (c.kind == ExpectedChange::Kind::gone) return std::nullopt;
  }
  return start;
}

std::optional<std::uint64_t> start_before(const std::vector<ExpectedChange>& changes,
                                          std::uint64_t start) {
  for (const ExpectedChange& c : changes) {
    if (c.kind == ExpectedChange::Kind::begins && c.size == start) return c.start;
    if (c.kind == ExpectedChange::Kind::added && c.start == start && c.path.empty())
      return std::nullopt;
  }
  return start;
}

bool opens(const std::vector<ExpectedChange>& changes, std::uint64_t start) {
  return std::any_of(changes.begin(), changes.end(), [start](const ExpectedChange& c) {
    return c.kind == ExpectedChange::Kind::opened && c.start == start;
  });
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
  const Recording recorded(expected);
  return with_seals(compare_with_changes(recorded, after, AccessTimes::compared, changes), recorded,
                    after);
}

}  // namespace nuvrat

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

std::string tree::words_of(const ExpectedChange& c, std::uint64_t start) {
  std::string text = kind_words(c.kind);
  if (c.kind == ExpectedChange::Kind::added && c.path.empty()) text = "a new partition";
  if (c.kind == ExpectedChange::Kind::gone && c.path.empty())
    text = "the partition was to be deleted, and is";
  if (c.kind == ExpectedChange::Kind::begins)
    text = fmt::format("begins at sector {} now, and at {} before", c.size, start);
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

const std::vector<ExpectedChange>& Expectation::changes() const {
  static const std::vector<ExpectedChange> none;
  return changes_ == nullptr ? none : *changes_;
}

PartitionId Expectation::id_before(std::uint64_t start) const {
  const auto it = std::find_if(starts_.begin(), starts_.end(),
                               [start](const PartitionStarts& s) { return s.before == start; });
  return it == starts_.end() ? PartitionId::none : it->id;
}

PartitionId Expectation::id_after(std::uint64_t start) const {
  const auto it = std::find_if(starts_.begin(), starts_.end(),
                               [start](const PartitionStarts& s) { return s.after == start; });
  return it == starts_.end() ? PartitionId::none : it->id;
}

std::optional<std::uint64_t> Expectation::start_after(std::uint64_t start) const {
  const auto it = std::find_if(starts_.begin(), starts_.end(),
                               [start](const PartitionStarts& s) { return s.before == start; });
  return it == starts_.end() ? start : it->after;
}

std::optional<std::uint64_t> Expectation::start_before(std::uint64_t start) const {
  const auto it = std::find_if(starts_.begin(), starts_.end(),
                               [start](const PartitionStarts& s) { return s.after == start; });
  return it == starts_.end() ? start : it->before;
}

std::uint64_t Expectation::first_start(PartitionId id) const {
  const auto it = std::find_if(starts_.begin(), starts_.end(),
                               [id](const PartitionStarts& s) { return s.id == id; });
  if (it == starts_.end()) return 0;
  return it->before ? *it->before : it->after.value_or(0);
}

bool Expectation::opens(std::uint64_t start) const {
  const PartitionId id = id_before(start);
  return std::any_of(changes().begin(), changes().end(), [id](const ExpectedChange& c) {
    return c.kind == ExpectedChange::Kind::opened && c.partition == id;
  });
}

void expect(const Expectation& expectation, Manifest& recorded) {
  for (const ExpectedChange& change : expectation.changes()) {
    if (change.kind != ExpectedChange::Kind::resized) continue;
    ManifestVolume* v = volume_at(recorded.volumes, expectation.first_start(change.partition));
    if (v == nullptr) continue;
    const FileTree::Id id = v->tree.find(change.path);
    if (id == FileTree::none) continue;
    v->tree.set_size(id, change.size);  // its hash is of what could be read, then as now
    v->unreadable.erase(id);
  }
}

Comparison compare_expected(const Manifest& expected, const Manifest& after,
                            const Expectation& expectation) {
  const Recording recorded(expected);
  return with_seals(compare_with_changes(recorded, after, AccessTimes::compared, expectation),
                    recorded, after);
}

}  // namespace nuvrat

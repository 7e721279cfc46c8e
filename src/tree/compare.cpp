#include <algorithm>
#include <cstdlib>
#include <optional>
#include <unordered_map>
#include <unordered_set>

#include <fmt/core.h>

#include "tree/comparer.h"

namespace nuvrat {
namespace {

using Kind = ExpectedChange::Kind;

class Comparer {
 public:
  Comparer(Comparison& out, AccessTimes accessed, const std::vector<ExpectedChange>& changes)
      : out_(out), accessed_(accessed), changes_(changes), came_(changes.size()) {}

  /// What was expected and didn't come is a difference.
  void finish(const Manifest& before, const Manifest& after) {
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      unsigned number = number_in(before, c.start);
      if (number == 0) number = number_in(after, c.start);
      const std::string text = words_of(c);
      if (!came_[i]) {
        add(kind_of(c.kind), number, c.path, "was to be changed, and was not: " + text);
        continue;
      }
      ++out_.planned_count;
      if (out_.planned.size() < Comparison::max_listed)
        out_.planned.push_back({kind_of(c.kind), number, c.path, text});
    }
  }

  void add(DifferenceKind kind, unsigned number, std::string path, std::string text) {
    ++out_.count;
    ++out_.by_kind[kind];
    if (out_.differences.size() < Comparison::max_listed) {
      out_.differences.push_back({kind, number, std::move(path), std::move(text)});
    }
  }

  /// A whole partition that was to go, or to be new.
  bool expects_partition(std::uint64_t start, Kind kind) {
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.kind != kind || c.start != start || !c.path.empty()) continue;
      came_[i] = true;
      return true;
    }
    return false;
  }

  void volumes(const ManifestVolume& before, const ManifestVolume& after) {
    // What was to change in it did not, which finish() says.
    if (after.untouched) return;
    before_ = &before;
    after_ = &after;
    find_expected();
    if (const auto label = of_volume_; label && after.info.label == changes_[*label].text) {
      came_[*label] = true;
    } else if (before.info.label != after.info.label)
      add(DifferenceKind::label, after.number, "",
          fmt::format("the volume's label was '{}', and is '{}'", printable(before.info.label),
                      printable(after.info.label)));
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.kind == Kind::begins && c.start == before.start) came_[i] = after.start == c.size;
    }
    std::vector<std::pair<FileTree::Id, FileTree::Id>> open{{FileTree::root, FileTree::root}};
    while (!open.empty()) {
      const auto [a, b] = open.back();
      open.pop_back();
      directories(a, b, open);
    }
  }

  void ranges(const ManifestRange& before, const ManifestRange& after) {
    out_.by_place += after.placed ? 1 : 0;
    if (before.placed != after.placed || (after.placed && before.digest != after.digest)) {
      add(DifferenceKind::place, after.number, "", other_place);
      return;
    }
    const std::string text = contents({before.digest, before.unreadable},
                                      {after.digest, after.unreadable}, "range hash");
    if (!text.empty()) add(DifferenceKind::range, after.number, "", text);
  }

 private:
  // What was read, and what could not be.
  struct Contents {
    const Digest& digest;
    const std::vector<ByteRange>& unreadable;
  };
  // How they differ, in words; empty: they don't, or nothing can be said of it. Of what could not
  // be read then, and can be now, there is no hash to compare; that it was not is said by counts.
  static std::string contents(const Contents& then, const Contents& now, const char* hash) {
    if (then.unreadable == now.unreadable) {
      if (then.digest == now.digest) return "";
      return fmt::format("{} {} before, {} now", hash, then.digest.hex().substr(0, 16),
                         now.digest.hex().substr(0, 16));
    }
    const bool less =
        std::all_of(now.unreadable.begin(), now.unreadable.end(), [&then](const ByteRange& part) {
          return std::any_of(
              then.unreadable.begin(), then.unreadable.end(), [&part](const ByteRange& was) {
                return part.offset >= was.offset &&
                       part.length <= was.length - std::min(was.length, part.offset - was.offset);
              });
        });
    return less ? "" : "parts of it can't be read now, and could be before";
  }

  // 0: there is no such partition, or the disk has no table.
  static unsigned number_in(const Manifest& side, std::uint64_t start) {
    for (const auto& v : side.volumes) {
      if (v.start == start) return v.number;
    }
    for (const auto& r : side.ranges) {
      if (r.start == start) return r.number;
    }
    return 0;
  }

  static constexpr const char* other_place =
      "lies on other sectors than before, and its contents were not recorded";

  // By node, so that no path is made while the trees are walked.
  using Expected = std::unordered_multimap<FileTree::Id, std::size_t>;

  void directories(FileTree::Id a, FileTree::Id b,
                   std::vector<std::pair<FileTree::Id, FileTree::Id>>& open) {
    const auto left = before_->tree.sorted_children(a);
    const auto right = after_->tree.sorted_children(b);
    // Before all else: a new name may sort before the old one.
    if (!before_expected_.empty()) find_renamed(left, right);
    auto x = left.begin();
    auto y = right.begin();
    while (x != left.end() || y != right.end()) {
      const int order = x == left.end()    ? 1
                        : y == right.end() ? -1
                                           : before_->tree.name(*x).compare(after_->tree.name(*y));
      if (order < 0) {
        if (const auto same = renamed_.find(*x); same != renamed_.end()) {
          both(*x, same->second, open);
          ++x;
          continue;
        }
        if (!expects(before_expected_, *x, Kind::gone))
          add(DifferenceKind::missing, before_->number, before_->tree.path(*x),
              describe(before_->tree, *x) + " before, not there now");
        ++x;
      } else if (order > 0) {
        extra(*y++);
      } else {
        both(*x++, *y++, open);
      }
    }
  }

  // Not there before; what is in a folder that was planned must be planned, too.
  void extra(FileTree::Id top) {
    std::vector<FileTree::Id> open{top};
    while (!open.empty()) {
      const FileTree::Id id = open.back();
      open.pop_back();
      if (expects(after_expected_, id, Kind::folder)) {
        const auto children = after_->tree.sorted_children(id);
        open.insert(open.end(), children.rbegin(), children.rend());
      } else if (!is_written(after_expected_, id, id) &&
                 !expects(after_expected_, id, Kind::added) && taken_.count(id) == 0 &&
                 !was_left_out(after_->tree.path(id))) {
        add(DifferenceKind::extra, after_->number, after_->tree.path(id),
            "not there before, now " + describe(after_->tree, id));
      }
    }
  }

  // It could not be read then, so nobody knows that it wasn't there.
  [[nodiscard]] bool was_left_out(const std::string& path) const {
    return std::any_of(before_->left_out.begin(), before_->left_out.end(), [&](const LeftOut& l) {
      return path == l.path ||
             (path.starts_with(l.path) && (l.path.empty() || path[l.path.size()] == '/'));
    });
  }

  // Whether the file has the contents that it was to get.
  bool is_written(const Expected& where, FileTree::Id known, FileTree::Id now) {
    const auto i = change_of(where, known, Kind::written);
    if (!i) return false;
    came_[*i] = after_->tree.bytes(now) == changes_[*i].size &&
                after_->digests[now].hex() == changes_[*i].text && damage(*after_, now).empty();
    return came_[*i];
  }

  void both(FileTree::Id a, FileTree::Id b,
            std::vector<std::pair<FileTree::Id, FileTree::Id>>& open) {
    nodes(a, b);
    if (before_->tree.is_directory(a) && after_->tree.is_directory(b)) open.emplace_back(a, b);
  }

  void find_expected() {
    before_expected_.clear();
    after_expected_.clear();
    taken_.clear();
    renamed_.clear();
    of_volume_.reset();
    std::unordered_multimap<std::string, std::size_t> by_path;
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.start != before_->start) continue;
      if (c.kind == Kind::relabelled) {
        of_volume_ = i;
      } else if (c.kind == Kind::added || c.kind == Kind::folder || c.kind == Kind::written) {
        const FileTree::Id id = after_->tree.find(c.path);
        if (id != FileTree::none) after_expected_.emplace(id, i);
        if (c.kind == Kind::written) by_path.emplace(c.path, i);
      } else {
        by_path.emplace(c.path, i);
      }
    }
    if (by_path.empty()) return;
    for (FileTree::Id id = 1; id < before_->tree.size(); ++id) {
      const auto [from, to] = by_path.equal_range(before_->tree.path(id));
      for (auto it = from; it != to; ++it) before_expected_.emplace(id, it->second);
    }
  }

  [[nodiscard]] std::optional<std::size_t> change_of(const Expected& where, FileTree::Id id,
                                                     Kind kind) const {
    const auto [from, to] = where.equal_range(id);
    for (auto it = from; it != to; ++it) {
      if (changes_[it->second].kind == kind) return it->second;
    }
    return std::nullopt;
  }
  bool expects(const Expected& where, FileTree::Id id, Kind kind) {
    const auto i = change_of(where, id, kind);
    if (i) came_[*i] = true;
    return i.has_value();
  }

  // What renamed ones have become.
  void find_renamed(const std::vector<FileTree::Id>& left, const std::vector<FileTree::Id>& right) {
    for (const FileTree::Id a : left) {
      const auto i = change_of(before_expected_, a, Kind::renamed);
      if (!i) continue;
      const std::u16string name = to_utf16(changes_[*i].text);
      const auto it = std::lower_bound(right.begin(), right.end(), name,
                                       [this](FileTree::Id id, const std::u16string& wanted) {
                                         return after_->tree.name(id) < wanted;
                                       });
      if (it == right.end() || after_->tree.name(*it) != name) continue;
      came_[*i] = true;
      taken_.insert(*it);
      renamed_[a] = *it;
    }
  }

  static std::string describe(const FileTree& tree, FileTree::Id id) {
    return tree.is_directory(id) ? "a folder" : fmt::format("a file of {} bytes", tree.bytes(id));
  }

  void nodes(FileTree::Id a, FileTree::Id b) {
    FileTree::Info old = before_->tree.info(a);
    const FileTree::Info now = after_->tree.info(b);
    if (const auto i = change_of(before_expected_, a, Kind::resized))
      came_[*i] = now.size == changes_[*i].size;
    if (const auto i = change_of(before_expected_, a, Kind::retimed)) {
      const ExpectedChange& c = changes_[*i];
      if (c.created != 0) old.created = c.created;
      if (c.modified != 0) old.modified = c.modified;
      if (c.accessed != 0) old.accessed = c.accessed;
      came_[*i] = true;  // how far, the comparison of times says
    }
    const auto report = [&](DifferenceKind kind, std::string text) {
      add(kind, after_->number, after_->tree.path(b), std::move(text));
    };
    if (old.directory != now.directory) {
      report(DifferenceKind::kind,
             describe(before_->tree, a) + " before, now " + describe(after_->tree, b));
      return;
    }
    const bool written = !now.directory && is_written(before_expected_, a, b);
    const bool placed = after_->is_placed(b);
    out_.by_place += placed ? 1 : 0;
    const bool same = before_->digests[a] == after_->digests[b];
    out_.same += !now.directory && same && old.size == now.size ? 1 : 0;
    if (written) {
      // as planned
    } else if (old.size != now.size) {
      report(DifferenceKind::size, fmt::format("{} bytes before, {} now", old.size, now.size));
    } else if (before_->is_placed(a) != placed || (placed && !same)) {
      report(DifferenceKind::place, other_place);
    } else if (const std::string text =
                   contents({before_->digests[a], damage(*before_, a)},
                            {after_->digests[b], damage(*after_, b)}, "SHA-256");
               !text.empty()) {
      report(DifferenceKind::content, text);
    }
    constexpr std::uint32_t compared = attr_read_only | attr_hidden | attr_system | attr_archive;
    if ((old.attributes & compared) != (now.attributes & compared)) {
      report(DifferenceKind::attributes,
             fmt::format("{:02X} before, {:02X} now", old.attributes & compared,
                         now.attributes & compared));
    }
    const TimePrecision& p = before_->tree.precision();
    const TimePrecision& q = after_->tree.precision();
    const auto time = [&](const char* which, Ticks was, Ticks is, Ticks exact) {
      // A time that was never recorded can't be lost: NTFS has one where FAT needn't.
      if (was == 0 || std::llabs(was - is) < std::max<Ticks>(exact, 1)) return;
      report(DifferenceKind::times,
             fmt::format("{} {} before, {} now", which, format_time(was), format_time(is)));
    };
    time("modified", old.modified, now.modified, std::max(p.modified, q.modified));
    time("created", old.created, now.created, std::max(p.created, q.created));
    if (accessed_ == AccessTimes::compared)
      time("accessed", old.accessed, now.accessed, std::max(p.accessed, q.accessed));
  }

  static const std::vector<ByteRange>& damage(const ManifestVolume& volume, FileTree::Id id) {
    static const std::vector<ByteRange> none;
    const auto it = volume.unreadable.find(id);
    return it == volume.unreadable.end() ? none : it->second;
  }

  Comparison& out_;
  AccessTimes accessed_;
  const std::vector<ExpectedChange>& changes_;
  std::vector<bool> came_;
  Expected before_expected_, after_expected_;
  std::unordered_set<FileTree::Id> taken_;                  // nodes after, that are renamed ones
  std::unordered_map<FileTree::Id, FileTree::Id> renamed_;  // by node before
  std::optional<std::size_t> of_volume_;
  const ManifestVolume* before_ = nullptr;
  const ManifestVolume* after_ = nullptr;
};

// Pairs by start where both sides have one there, so that a dropped partition shifts nothing.
// What was to begin elsewhere counts by where it was; what was to be new is on one side alone.
template <typename Item, typename Both, typename OneSide>
void pair_by_start(const std::vector<Item>& before, const std::vector<Item>& after,
                   const std::vector<ExpectedChange>& changes, Both both, OneSide one_side) {
  const auto start_of = [&changes](const Item& item) { return start_before(changes, item.start); };
  auto x = before.begin();
  auto y = after.begin();
  while (x != before.end() || y != after.end()) {
    const auto there = y == after.end() ? std::nullopt : start_of(*y);
    const bool is_new = y != after.end() && !there;
    if (!is_new && (!there || (x != before.end() && x->start < *there))) {
      one_side(*x++, true);
    } else if (is_new || x == before.end() || *there < x->start) {
      one_side(*y++, false);
    } else {
      both(*x++, *y++);
    }
  }
}

}  // namespace

Comparison compare(const Manifest& before, const Manifest& after, AccessTimes accessed) {
  return with_seals(compare_with_changes(before, after, accessed, {}), before, after);
}

Comparison with_seals(Comparison comparison, const Manifest& before, const Manifest& after) {
  if (before.proof != Proof::contents) return comparison;  // by places they say nothing to anybody
  comparison.seal_before = before.seal();
  comparison.seal_after = after.seal();
  return comparison;
}

Comparison compare_with_changes(const Manifest& before, const Manifest& after, AccessTimes accessed,
                                const std::vector<ExpectedChange>& changes) {
  Comparison out;
  out.recorded = before.files();
  out.left_out = std::max(before.left_out(), after.left_out());
  out.unreadable = std::max(before.unreadable_files(), after.unreadable_files());
  out.unreadable_ranges = std::max(before.unreadable_ranges(), after.unreadable_ranges());
  out.chosen = before.chosen;
  out.accessed = accessed == AccessTimes::compared;
  out.proof = before.proof;
  Comparer comparer(out, accessed, changes);
  pair_by_start(
      before.volumes, after.volumes, changes,
      [&](const ManifestVolume& a, const ManifestVolume& b) { comparer.volumes(a, b); },
      [&](const ManifestVolume& v, bool gone) {
        if (!gone && before.chosen) return;
        if (comparer.expects_partition(v.start, gone ? Kind::gone : Kind::added)) return;
        // It could not be read then, and was not recorded.
        if (!gone &&
            std::any_of(before.ranges.begin(), before.ranges.end(), [&](const ManifestRange& r) {
              return !r.fault.empty() && start_before(changes, v.start) == r.start;
            }))
          return;
        comparer.add(DifferenceKind::volume, v.number, "",
                     fmt::format("the volume at sector {} with {} {}", v.start,
                                 plural(v.tree.file_count(), "file", "files"),
                                 gone ? "can't be read there any more" : "was not there before"));
      });
  pair_by_start(
      before.ranges, after.ranges, changes,
      [&](const ManifestRange& a, const ManifestRange& b) { comparer.ranges(a, b); },
      [&](const ManifestRange& r, bool gone) {
        if (!gone && before.chosen) return;
        if (comparer.expects_partition(r.start, gone ? Kind::gone : Kind::added)) return;
        if (gone && r.holds_nothing) return;
        // A volume that can't be read any more is said above; one that can again, too.
        const auto& others = gone ? after.volumes : before.volumes;
        if (std::any_of(others.begin(), others.end(),
                        [&r](const ManifestVolume& v) { return v.start == r.start; }))
          return;
        comparer.add(DifferenceKind::range, r.number, "",
                     fmt::format("the partition at sector {} ({}) {}", r.start, r.description,
                                 gone ? "is not there any more" : "was not there before"));
      });
  comparer.finish(before, after);
  return out;
}

}  // namespace nuvrat

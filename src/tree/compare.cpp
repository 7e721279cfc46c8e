#include <algorithm>
#include <cstdlib>
#include <optional>
#include <unordered_map>

#include <fmt/core.h>

#include "tree/comparer.h"
#include "tree/pairs.h"

namespace nuvrat {
using namespace tree;
namespace {

using Kind = ExpectedChange::Kind;

class Comparer final : public NodePairs {
 public:
  Comparer(Comparison& out, AccessTimes accessed, const Expectation& expectation)
      : out_(out),
        accessed_(accessed),
        expectation_(expectation),
        changes_(expectation.changes()),
        came_(changes_.size()) {}

  /// What was expected and didn't come is a difference.
  void finish(const Recording& before, const Manifest& after) {
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      const std::uint64_t start = expectation_.first_start(c.partition);
      unsigned number = number_in(before.volumes(), before.ranges(), start);
      if (number == 0) number = number_in(after.volumes, after.ranges, start);
      const std::string text = words_of(c, start);
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
    const PartitionId id =
        kind == Kind::gone ? expectation_.id_before(start) : expectation_.id_after(start);
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.kind != kind || c.partition != id || !c.path.empty()) continue;
      came_[i] = true;
      return true;
    }
    return false;
  }

  /// A volume where there was one range.
  bool expects_opened(std::uint64_t start, VolumeKind kind) {
    const PartitionId id = expectation_.id_after(start);
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.kind != Kind::opened || c.partition != id || c.text != name_of(kind)) continue;
      came_[i] = true;
      return true;
    }
    return false;
  }

  void volumes(const RecordedVolume& before, RecordedNodes& nodes, const ManifestVolume& after) {
    // What was to change in it did not, which finish() says.
    if (after.untouched) return;
    before_ = &before;
    after_ = &after;
    const PartitionId id = expectation_.id_before(before.start);
    find_expected(id);
    if (const auto label = of_volume_; label && after.info.label == changes_[*label].text) {
      came_[*label] = true;
    } else if (before.info.label != after.info.label)
      add(DifferenceKind::label, after.number, "",
          fmt::format("the volume's label was '{}', and is '{}'", printable(before.info.label),
                      printable(after.info.label)));
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.kind == Kind::begins && c.partition == id) came_[i] = after.start == c.size;
    }
    pair_nodes(nodes, after.tree, renamings(changes_, id), *this);
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
  template <typename Volumes>
  static unsigned number_in(const Volumes& volumes, const std::vector<ManifestRange>& ranges,
                            std::uint64_t start) {
    for (const auto& v : volumes) {
      if (v.start == start) return v.number;
    }
    for (const auto& r : ranges) {
      if (r.start == start) return r.number;
    }
    return 0;
  }

  static constexpr const char* other_place =
      "lies on other sectors than before, and its contents were not recorded";

  // Of one path, or one node of the disk as it is now.
  using Expected = std::vector<std::size_t>;

  void gone(const RecordedNode& then, const std::u16string& folder) override {
    const std::string path = to_utf8(path_in(folder, then.name));
    if (!expects(expected_then(path), Kind::gone))
      add(DifferenceKind::missing, before_->number, path,
          describe(then.info) + " before, not there now");
  }

  // Not there before; what is in a folder that was planned must be planned, too.
  void came(FileTree::Id top) override {
    std::vector<FileTree::Id> open{top};
    while (!open.empty()) {
      const FileTree::Id id = open.back();
      open.pop_back();
      const Expected& planned = expected_now(id);
      if (expects(planned, Kind::folder)) {
        const auto children = after_->tree.sorted_children(id);
        open.insert(open.end(), children.rbegin(), children.rend());
      } else if (is_written(planned, id)) {
        ++out_.added;
      } else if (expects(planned, Kind::added)) {
        out_.added += files_of(id);
      } else if (!was_left_out(after_->tree.path(id))) {
        add(DifferenceKind::extra, after_->number, after_->tree.path(id),
            "not there before, now " + describe(after_->tree.info(id)));
      }
    }
  }

  // The file, or those below the folder.
  [[nodiscard]] std::uint64_t files_of(FileTree::Id top) const {
    std::uint64_t out = 0;
    std::vector<FileTree::Id> open{top};
    while (!open.empty()) {
      const FileTree::Id id = open.back();
      open.pop_back();
      if (!after_->tree.is_directory(id)) ++out;
      const auto children = after_->tree.sorted_children(id);
      open.insert(open.end(), children.begin(), children.end());
    }
    return out;
  }

  // It could not be read then, so it isn't known that it wasn't there.
  [[nodiscard]] bool was_left_out(const std::string& path) const {
    return std::any_of(before_->left_out.begin(), before_->left_out.end(), [&](const LeftOut& l) {
      return path == l.path ||
             (path.starts_with(l.path) && (l.path.empty() || path[l.path.size()] == '/'));
    });
  }

  // Whether the file has the contents that it was to get.
  bool is_written(const Expected& planned, FileTree::Id now) {
    const auto i = change_of(planned, Kind::written);
    if (!i) return false;
    came_[*i] = after_->tree.bytes(now) == changes_[*i].size &&
                after_->digests[now].hex() == changes_[*i].text && damage(now).empty();
    return came_[*i];
  }

  void find_expected(PartitionId partition) {
    expected_now_.clear();
    expected_then_.clear();
    of_volume_.reset();
    for (std::size_t i = 0; i < changes_.size(); ++i) {
      const ExpectedChange& c = changes_[i];
      if (c.partition != partition) continue;
      if (c.kind == Kind::relabelled) {
        of_volume_ = i;
      } else if (c.kind == Kind::added || c.kind == Kind::folder || c.kind == Kind::written) {
        const FileTree::Id id = after_->tree.find(c.path);
        if (id != FileTree::none) expected_now_[id].push_back(i);
        if (c.kind == Kind::written) expected_then_[c.path].push_back(i);
      } else {
        expected_then_[c.path].push_back(i);
      }
    }
  }

  [[nodiscard]] const Expected& expected_then(const std::string& path) const {
    const auto it = expected_then_.find(path);
    return it == expected_then_.end() ? nothing_ : it->second;
  }
  [[nodiscard]] const Expected& expected_now(FileTree::Id id) const {
    const auto it = expected_now_.find(id);
    return it == expected_now_.end() ? nothing_ : it->second;
  }

  [[nodiscard]] std::optional<std::size_t> change_of(const Expected& planned, Kind kind) const {
    for (const std::size_t i : planned) {
      if (changes_[i].kind == kind) return i;
    }
    return std::nullopt;
  }
  bool expects(const Expected& planned, Kind kind) {
    const auto i = change_of(planned, kind);
    if (i) came_[*i] = true;
    return i.has_value();
  }

  static std::string describe(const FileTree::Info& info) {
    return info.directory ? "a folder" : fmt::format("a file of {} bytes", info.size);
  }

  void both(const RecordedNode& then, const std::u16string& folder, FileTree::Id b) override {
    FileTree::Info old = then.info;
    const FileTree::Info now = after_->tree.info(b);
    // No path is made unless something was to change by it.
    const Expected& planned =
        expected_then_.empty() ? nothing_ : expected_then(to_utf8(path_in(folder, then.name)));
    bool changed = after_->tree.name(b) != then.name && expects(planned, Kind::renamed);
    if (const auto i = change_of(planned, Kind::resized)) {
      came_[*i] = now.size == changes_[*i].size;
      changed |= came_[*i];
    }
    if (const auto i = change_of(planned, Kind::retimed)) {
      const ExpectedChange& c = changes_[*i];
      if (c.created != 0) old.created = c.created;
      if (c.modified != 0) old.modified = c.modified;
      if (c.accessed != 0) old.accessed = c.accessed;
      came_[*i] = true;  // how far, the comparison of times says
      changed = true;
    }
    const auto report = [&](DifferenceKind kind, std::string text) {
      add(kind, after_->number, after_->tree.path(b), std::move(text));
    };
    if (old.directory != now.directory) {
      report(DifferenceKind::kind, describe(then.info) + " before, now " + describe(now));
      return;
    }
    const bool written = !now.directory && is_written(planned, b);
    const bool placed = after_->is_placed(b);
    out_.by_place += placed ? 1 : 0;
    const bool same = then.digest == after_->digests[b];
    out_.same += !now.directory && same && old.size == now.size ? 1 : 0;
    const std::uint64_t differences = out_.count;
    if (written) {
      // as planned
    } else if (old.size != now.size) {
      report(DifferenceKind::size, fmt::format("{} bytes before, {} now", old.size, now.size));
    } else if (then.placed != placed || (placed && !same)) {
      report(DifferenceKind::place, other_place);
    } else if (const std::string text = contents({then.digest, then.unreadable},
                                                 {after_->digests[b], damage(b)}, "SHA-256");
               !text.empty()) {
      report(DifferenceKind::content, text);
    }
    constexpr std::uint32_t compared = attr_read_only | attr_hidden | attr_system | attr_archive;
    if ((old.attributes & compared) != (now.attributes & compared)) {
      report(DifferenceKind::attributes,
             fmt::format("{:02X} before, {:02X} now", old.attributes & compared,
                         now.attributes & compared));
    }
    const TimePrecision& p = before_->precision;
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
    if (now.directory || out_.count > differences) return;
    if (changed || written) {
      ++out_.changed;
    } else {
      ++out_.unchanged;
      out_.unchanged_bytes += now.size;
    }
  }

  [[nodiscard]] const std::vector<ByteRange>& damage(FileTree::Id now) const {
    static const std::vector<ByteRange> none;
    const auto it = after_->unreadable.find(now);
    return it == after_->unreadable.end() ? none : it->second;
  }

  Comparison& out_;
  AccessTimes accessed_;
  const Expectation& expectation_;
  const std::vector<ExpectedChange>& changes_;
  std::vector<bool> came_;
  const Expected nothing_{};
  std::unordered_map<std::string, Expected> expected_then_;
  std::unordered_map<FileTree::Id, Expected> expected_now_;
  std::optional<std::size_t> of_volume_;
  const RecordedVolume* before_ = nullptr;
  const ManifestVolume* after_ = nullptr;
};

// One before beside what it is now; null: it is gone, or wasn't there.
template <typename Then, typename Now>
struct Pair {
  const Then* then;
  const Now* now;
};

// Pairs by where they began, so that a dropped partition shifts nothing, and one that begins where
// another began isn't taken for it. What was to be new is on one side alone.
template <typename Then, typename Now>
std::vector<Pair<Then, Now>> pairs_of(const std::vector<Then>& before,
                                      const std::vector<Now>& after,
                                      const Expectation& expectation) {
  struct There {
    const Now* item;
    bool is_new;
    std::uint64_t start;  // before; of a new one, now
  };
  std::vector<There> all;
  for (const Now& now : after) {
    const auto then = expectation.start_before(now.start);
    all.push_back({&now, !then, then.value_or(now.start)});
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const There& a, const There& b) { return a.start < b.start; });
  std::vector<Pair<Then, Now>> out;
  auto x = before.begin();
  for (const There& y : all) {
    for (; x != before.end() && x->start < y.start; ++x) out.push_back({&*x, nullptr});
    const bool same = !y.is_new && x != before.end() && x->start == y.start;
    out.push_back({same ? &*x++ : nullptr, y.item});
  }
  for (; x != before.end(); ++x) out.push_back({&*x, nullptr});
  return out;
}

}  // namespace

Comparison compare(const Manifest& before, const Manifest& after, AccessTimes accessed) {
  const Recording recorded(before);
  return with_seals(compare_with_changes(recorded, after, accessed, {}), recorded, after);
}

Comparison tree::with_seals(Comparison comparison, const Recording& before, const Manifest& after,
                            const std::string& seal) {
  if (before.proof() != Proof::contents) return comparison;  // they say nothing to anybody
  comparison.seal_before = before.seal();
  comparison.seal_after = seal.empty() ? after.seal() : seal;
  return comparison;
}

Comparison tree::compare_with_changes(const Recording& before, const Manifest& after,
                                      AccessTimes accessed, const Expectation& expectation) {
  Comparison out;
  out.recorded = before.files();
  // Of a volume that is to be read again nothing but the range was to be recorded.
  const auto opened = static_cast<std::uint64_t>(std::count_if(
      before.ranges().begin(), before.ranges().end(),
      [&](const ManifestRange& r) { return !r.fault.empty() && expectation.opens(r.start); }));
  out.left_out = std::max(before.left_out() - opened, after.left_out());
  out.unreadable = std::max(before.unreadable_files(), after.unreadable_files());
  out.unreadable_ranges = std::max(before.unreadable_ranges(), after.unreadable_ranges());
  out.chosen = before.chosen();
  out.accessed = accessed == AccessTimes::compared;
  out.proof = before.proof();
  Comparer comparer(out, accessed, expectation);
  // What is there was in a place that could not be read then, and not recorded.
  const auto was_unseen = [&](std::uint64_t start) {
    const auto then = expectation.start_before(start);
    const auto& ranges = before.ranges();
    return then && std::any_of(ranges.begin(), ranges.end(), [&](const ManifestRange& r) {
             return !r.fault.empty() && SectorRange{r.start, r.sectors}.contains(*then);
           });
  };
  const auto one_volume = [&](const auto& v, std::uint64_t files, std::uint64_t bytes, bool gone) {
    if (!gone && before.chosen()) return;
    if (comparer.expects_partition(v.start, gone ? Kind::gone : Kind::added)) {
      (gone ? out.deleted : out.added) += files;
      return;
    }
    if (!gone && comparer.expects_opened(v.start, v.info.kind)) {
      out.opened += files;
      out.opened_bytes += bytes;
      return;
    }
    if (!gone && was_unseen(v.start)) return;
    comparer.add(
        DifferenceKind::volume, v.number, "",
        fmt::format("the volume at sector {} with {} {}", v.start, plural(files, "file", "files"),
                    gone ? "can't be read there any more" : "was not there before"));
  };
  for (const auto& [then, now] : pairs_of(before.volumes(), after.volumes, expectation)) {
    if (then != nullptr && now != nullptr)
      comparer.volumes(*then, *before.nodes(*then), *now);
    else if (then != nullptr)
      one_volume(*then, then->files, then->bytes, true);
    else
      one_volume(*now, now->tree.file_count(), now->tree.total_bytes(), false);
  }
  const auto one_range = [&](const ManifestRange& r, const auto& other_volumes, bool gone) {
    if (!gone && before.chosen()) return;
    if (comparer.expects_partition(r.start, gone ? Kind::gone : Kind::added)) return;
    if (gone ? r.holds_nothing : was_unseen(r.start)) return;
    // A volume that can't be read any more is said above; one that can again, too. So is what is
    // in a place whose table could not be read.
    const bool unseen = gone && !r.fault.empty();
    if (std::any_of(other_volumes.begin(), other_volumes.end(), [&](const auto& v) {
          return v.start == r.start ||
                 (unseen && SectorRange{r.start, r.sectors}.contains(v.start));
        }))
      return;
    comparer.add(DifferenceKind::range, r.number, "",
                 fmt::format("the partition at sector {} ({}) {}", r.start, r.description,
                             gone ? "is not there any more" : "was not there before"));
  };
  for (const auto& [then, now] : pairs_of(before.ranges(), after.ranges, expectation)) {
    if (then != nullptr && now != nullptr)
      comparer.ranges(*then, *now);
    else if (then != nullptr)
      one_range(*then, after.volumes, true);
    else
      one_range(*now, before.volumes(), false);
  }
  comparer.finish(before, after);
  return out;
}

FileTree::Id tree::first_difference(const FileTree& a, const FileTree& b) {
  const std::size_t both = std::min(a.size(), b.size());
  for (std::size_t i = 0; i < both; ++i) {
    const auto id = static_cast<FileTree::Id>(i);
    const FileTree::Info x = a.info(id), y = b.info(id);
    if (a.name(id) != b.name(id) || a.parent(id) != b.parent(id) || a.link(id) != b.link(id) ||
        x.directory != y.directory || x.attributes != y.attributes || x.size != y.size ||
        x.created != y.created || x.modified != y.modified || x.accessed != y.accessed)
      return id;
  }
  return a.size() == b.size() ? FileTree::none : FileTree::root;
}

}  // namespace nuvrat

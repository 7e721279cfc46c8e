#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>

#include <nuvrat/manifest.h>

namespace nuvrat {
namespace {

class Comparer {
 public:
  Comparer(Comparison& out, AccessTimes accessed) : out_(out), accessed_(accessed) {}

  void add(DifferenceKind kind, unsigned number, std::string path, std::string text) {
    ++out_.count;
    if (out_.differences.size() < Comparison::most_listed) {
      out_.differences.push_back({kind, number, std::move(path), std::move(text)});
    }
  }

  void volumes(const ManifestVolume& before, const ManifestVolume& after) {
    before_ = &before;
    after_ = &after;
    if (before.info.label != after.info.label)
      add(DifferenceKind::label, after.number, "",
          fmt::format("the volume's label was '{}', and is '{}'", printable(before.info.label),
                      printable(after.info.label)));
    std::vector<std::pair<FileTree::Id, FileTree::Id>> open{{FileTree::root, FileTree::root}};
    while (!open.empty()) {
      const auto [a, b] = open.back();
      open.pop_back();
      directories(a, b, open);
    }
  }

  void ranges(const ManifestRange& before, const ManifestRange& after) {
    if (before.digest == after.digest && before.unreadable == after.unreadable) return;
    add(DifferenceKind::range, after.number, "",
        fmt::format("its contents changed: range hash {} before, {} now",
                    before.digest.hex().substr(0, 16), after.digest.hex().substr(0, 16)));
  }

 private:
  void directories(FileTree::Id a, FileTree::Id b,
                   std::vector<std::pair<FileTree::Id, FileTree::Id>>& open) {
    const auto left = before_->tree.sorted_children(a);
    const auto right = after_->tree.sorted_children(b);
    auto x = left.begin();
    auto y = right.begin();
    while (x != left.end() || y != right.end()) {
      const int order = x == left.end()    ? 1
                        : y == right.end() ? -1
                                           : before_->tree.name(*x).compare(after_->tree.name(*y));
      if (order < 0) {
        add(DifferenceKind::missing, before_->number, before_->tree.path(*x),
            describe(before_->tree, *x) + " before, not there now");
        ++x;
      } else if (order > 0) {
        add(DifferenceKind::extra, after_->number, after_->tree.path(*y),
            "not there before, now " + describe(after_->tree, *y));
        ++y;
      } else {
        nodes(*x, *y);
        if (before_->tree.is_directory(*x) && after_->tree.is_directory(*y))
          open.emplace_back(*x, *y);
        ++x;
        ++y;
      }
    }
  }

  static std::string describe(const FileTree& tree, FileTree::Id id) {
    return tree.is_directory(id) ? "a folder" : fmt::format("a file of {} bytes", tree.bytes(id));
  }

  void nodes(FileTree::Id a, FileTree::Id b) {
    const FileTree::Info old = before_->tree.info(a);
    const FileTree::Info now = after_->tree.info(b);
    const auto report = [&](DifferenceKind kind, std::string text) {
      add(kind, after_->number, after_->tree.path(b), std::move(text));
    };
    if (old.directory != now.directory) {
      report(DifferenceKind::kind,
             describe(before_->tree, a) + " before, now " + describe(after_->tree, b));
      return;
    }
    if (old.size != now.size) {
      report(DifferenceKind::size, fmt::format("{} bytes before, {} now", old.size, now.size));
    } else if (before_->digests[a] != after_->digests[b] ||
               damage(*before_, a) != damage(*after_, b)) {
      report(DifferenceKind::content,
             fmt::format("SHA-256 {} before, {} now", before_->digests[a].hex().substr(0, 16),
                         after_->digests[b].hex().substr(0, 16)));
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

  static std::vector<ByteRange> damage(const ManifestVolume& volume, FileTree::Id id) {
    const auto it = volume.unreadable.find(id);
    return it == volume.unreadable.end() ? std::vector<ByteRange>{} : it->second;
  }

  Comparison& out_;
  AccessTimes accessed_;
  const ManifestVolume* before_ = nullptr;
  const ManifestVolume* after_ = nullptr;
};

// Pairs by start where both sides have one there, so that a dropped partition shifts nothing.
template <typename Item, typename Both, typename OneSide>
void pair_by_start(const std::vector<Item>& before, const std::vector<Item>& after, Both both,
                   OneSide one_side) {
  auto x = before.begin();
  auto y = after.begin();
  while (x != before.end() || y != after.end()) {
    if (y == after.end() || (x != before.end() && x->start < y->start)) {
      one_side(*x++, true);
    } else if (x == before.end() || y->start < x->start) {
      one_side(*y++, false);
    } else {
      both(*x++, *y++);
    }
  }
}

}  // namespace

Comparison compare(const Manifest& before, const Manifest& after, AccessTimes accessed) {
  Comparison out;
  out.seal_before = before.seal();
  out.seal_after = after.seal();
  out.left_out = std::max(before.left_out(), after.left_out());
  out.unreadable = std::max(before.unreadable_files(), after.unreadable_files());
  out.chosen = before.chosen;
  out.accessed = accessed == AccessTimes::compared;
  Comparer comparer(out, accessed);
  pair_by_start(
      before.volumes, after.volumes,
      [&](const ManifestVolume& a, const ManifestVolume& b) { comparer.volumes(a, b); },
      [&](const ManifestVolume& v, bool gone) {
        if (!gone && before.chosen) return;
        comparer.add(DifferenceKind::volume, v.number, "",
                     fmt::format("the volume at sector {} with {} {}", v.start,
                                 plural(v.tree.file_count(), "file", "files"),
                                 gone ? "can't be read there any more" : "was not there before"));
      });
  pair_by_start(
      before.ranges, after.ranges,
      [&](const ManifestRange& a, const ManifestRange& b) { comparer.ranges(a, b); },
      [&](const ManifestRange& r, bool gone) {
        if (gone ? r.holds_nothing : before.chosen) return;
        // A volume that can't be read any more is said above; one that can again, too.
        const auto& others = gone ? after.volumes : before.volumes;
        if (std::any_of(others.begin(), others.end(),
                        [&r](const ManifestVolume& v) { return v.start == r.start; }))
          return;
        comparer.add(DifferenceKind::range, r.number, "",
                     fmt::format("the partition at sector {} ({}) {}", r.start, r.description,
                                 gone ? "is not there any more" : "was not there before"));
      });
  return out;
}

}  // namespace nuvrat

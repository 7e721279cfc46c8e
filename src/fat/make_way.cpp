#include "fat/make_way.h"

#include <algorithm>
#include <map>
#include <set>
#include <utility>

#include "base/record.h"
#include "fat/directory.h"
#include "fat/draft.h"
#include "fat/fat_map.h"
#include "fat/read.h"

namespace nuvrat::fat {
namespace {

// Neighbouring clusters of one kind.
struct Stretch {
  enum class Kind { free, file, fixed } kind = Kind::free;
  ClusterRange range;
};

// Clusters of one file, in the order of its chain, and the link that they hang on.
struct Part {
  std::vector<std::uint32_t> clusters;
  std::uint32_t before = 0;  // the cluster in front; 0: the file's entry
  std::uint64_t entry_byte = 0;
  std::uint32_t after = 0;  // what the last one's entry says
};

class WayMaker {
 public:
  WayMaker(const Device& disk, SectorRange place, const ReadOptions& options)
      : disk_(disk),
        place_(place),
        window_(disk, place),
        options_(options),
        geometry_(geometry_of(window_, window_.read(0))),
        ratio_(geometry_.sector_bytes / disk.sector_size()),
        map_(window_, geometry_, geometry_.active_fat) {}

  std::optional<Room> run(std::uint64_t wanted, SectorRange within, std::size_t max_switches) {
    const std::uint64_t cluster = std::uint64_t{geometry_.cluster_sectors} * ratio_;
    const auto count = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(div_up(wanted, cluster), geometry_.clusters));
    const std::vector<Stretch> stretches = look();
    const auto chosen = choose(stretches, count, clusters_in(within));
    if (!chosen) return std::nullopt;
    hole_ = *chosen;
    for (const Stretch& s : stretches) {
      if (s.kind == Stretch::Kind::free) add_targets(s.range);
    }
    std::stable_sort(
        targets_.begin(), targets_.end(),
        [](const ClusterRange& a, const ClusterRange& b) { return a.count < b.count; });
    return make_moves(find_parts(), max_switches);
  }

 private:
  [[nodiscard]] SectorRange sectors_of(ClusterRange r) const {
    return {geometry_.cluster_start(r.first) * ratio_,
            std::uint64_t{r.count} * geometry_.cluster_sectors * ratio_};
  }

  // Clusters that lie whole in a range of sectors.
  [[nodiscard]] ClusterRange clusters_in(SectorRange sectors) const {
    const std::uint64_t size = std::uint64_t{geometry_.cluster_sectors} * ratio_;
    const std::uint64_t data = geometry_.data_start() * ratio_;
    const std::uint64_t first = sectors.first <= data ? 0 : div_up(sectors.first - data, size);
    const std::uint64_t end =
        sectors.end() <= data
            ? 0
            : std::min<std::uint64_t>((sectors.end() - data) / size, geometry_.clusters);
    return {static_cast<std::uint32_t>(2 + first),
            static_cast<std::uint32_t>(end > first ? end - first : 0)};
  }

  // The volume in clusters: free, of files, of anything else.
  std::vector<Stretch> look() {
    const auto reader = open_reader(window_, options_);
    const FileTree& tree = reader->tree();
    SectorSet movable;
    for (FileTree::Id id = 1; id < tree.size(); ++id) {
      if (tree.is_directory(id)) continue;
      for (const SectorRange& e : tree.extents(id)) movable.add(e);
    }
    std::vector<Stretch> out;
    std::uint32_t at = 2;
    const auto add = [&out](Stretch::Kind kind, ClusterRange r) {
      if (r.count > 0) out.push_back({kind, r});
    };
    map_.each_used([&](ClusterRange used) {
      add(Stretch::Kind::free, {at, used.first - at});
      at = used.first + used.count;
      const std::uint64_t size = std::uint64_t{geometry_.cluster_sectors} * ratio_;
      const SectorRange all = sectors_of(used);
      for (SectorRange rest = all; rest.count > 0;) {
        const auto hit = movable.first_overlap(rest);
        const std::uint64_t fixed = (hit ? hit->first : rest.end()) - rest.first;
        const auto first = static_cast<std::uint32_t>((rest.first - all.first) / size + used.first);
        add(Stretch::Kind::fixed, {first, static_cast<std::uint32_t>(fixed / size)});
        if (!hit) break;
        add(Stretch::Kind::file, {static_cast<std::uint32_t>(first + fixed / size),
                                  static_cast<std::uint32_t>(hit->count / size)});
        rest = {hit->end(), rest.end() - hit->end()};
      }
    });
    add(Stretch::Kind::free, {at, geometry_.last_cluster() + 1 - at});
    return out;
  }

  // The place that moves the least: one that begins or ends with a stretch.
  [[nodiscard]] std::optional<ClusterRange> choose(const std::vector<Stretch>& all,
                                                   std::uint32_t count, ClusterRange within) const {
    std::vector<std::uint64_t> files{0};  // clusters of files in front of each stretch
    std::vector<std::uint64_t> fixed{0};
    std::uint64_t free = 0;
    for (const Stretch& s : all) {
      files.push_back(files.back() + (s.kind == Stretch::Kind::file ? s.range.count : 0));
      fixed.push_back(fixed.back() + (s.kind == Stretch::Kind::fixed ? s.range.count : 0));
      free += s.kind == Stretch::Kind::free ? s.range.count : 0;
    }
    const auto in_front = [&](const std::vector<std::uint64_t>& sums, Stretch::Kind kind,
                              std::uint64_t cluster) {
      const auto after =
          std::upper_bound(all.begin(), all.end(), cluster,
                           [](std::uint64_t c, const Stretch& s) { return c < s.range.first; });
      if (after == all.begin()) return std::uint64_t{0};
      const auto i = static_cast<std::size_t>(after - all.begin()) - 1;
      return sums[i] + (all[i].kind == kind ? std::min<std::uint64_t>(cluster - all[i].range.first,
                                                                      all[i].range.count)
                                            : 0);
    };
    std::optional<ClusterRange> best;
    std::uint64_t best_cost = 0;
    const auto consider = [&](std::uint64_t first) {
      const std::uint64_t end = first + count;
      if (first < within.first || end > std::uint64_t{within.first} + within.count) return;
      if (in_front(fixed, Stretch::Kind::fixed, end) !=
          in_front(fixed, Stretch::Kind::fixed, first))
        return;
      const std::uint64_t cost =
          in_front(files, Stretch::Kind::file, end) - in_front(files, Stretch::Kind::file, first);
      // What moves goes to free clusters outside: all in all, as many as the hole has.
      if (count > free || (best && cost >= best_cost)) return;
      best = ClusterRange{static_cast<std::uint32_t>(first), count};
      best_cost = cost;
    };
    consider(within.first);
    for (const Stretch& s : all) {
      consider(s.range.first);
      const std::uint64_t end = std::uint64_t{s.range.first} + s.range.count;
      if (end >= count) consider(end - count);
    }
    return best;
  }

  void add_targets(ClusterRange r) {
    const std::uint32_t end = r.first + r.count;
    const std::uint32_t hole_end = hole_.first + hole_.count;
    if (end <= hole_.first || r.first >= hole_end) {
      targets_.push_back(r);
      return;
    }
    if (r.first < hole_.first) targets_.push_back({r.first, hole_.first - r.first});
    if (end > hole_end) targets_.push_back({hole_end, end - hole_end});
  }

  [[nodiscard]] std::uint32_t take_target() {
    while (targets_[next_target_].count == 0) ++next_target_;
    ClusterRange& r = targets_[next_target_];
    --r.count;
    return r.first++;
  }

  // Folder by folder: what of each file lies where the hole must be.
  std::vector<Part> find_parts() const {
    std::vector<Part> out;
    const CodePage page(options_.codepage);
    base::Budget budget = map_.budget();
    std::vector<std::uint32_t> open{geometry_.kind == VolumeKind::fat32 ? geometry_.root_cluster
                                                                        : 0};
    std::set<std::uint32_t> seen(open.begin(), open.end());
    while (!open.empty()) {
      const std::uint32_t folder = open.back();
      open.pop_back();
      const std::vector<SectorRange> places = places_of(folder, budget);
      Bytes bytes;
      for (const SectorRange& r : places) {
        const Bytes piece = window_.read(r.first, r.count);
        bytes.insert(bytes.end(), piece.begin(), piece.end());
      }
      for (const DirectoryItem& item : parse_directory(bytes, page, options_.zone).items) {
        if (!geometry_.valid_cluster(item.cluster)) continue;
        if (item.info.directory) {
          if (seen.insert(item.cluster).second) open.push_back(item.cluster);
          continue;
        }
        add_parts(map_.chain(item.cluster, budget), byte_of(places, item.index), out);
      }
    }
    return out;
  }

  [[nodiscard]] std::vector<SectorRange> places_of(std::uint32_t folder,
                                                   base::Budget& budget) const {
    if (folder == 0)
      return {{geometry_.root_start() * ratio_, std::uint64_t{geometry_.root_sectors} * ratio_}};
    std::vector<SectorRange> out;
    for (const ClusterRange& r : map_.chain(folder, budget).ranges) out.push_back(sectors_of(r));
    return out;
  }

  // Where an entry of a folder is, in bytes from the volume's first.
  [[nodiscard]] std::uint64_t byte_of(const std::vector<SectorRange>& places,
                                      std::uint32_t index) const {
    std::uint64_t byte = std::uint64_t{index} * sizeof(DirEntry);
    for (const SectorRange& r : places) {
      const std::uint64_t bytes = r.count * disk_.sector_size();
      if (byte < bytes) return r.first * disk_.sector_size() + byte;
      byte -= bytes;
    }
    return 0;
  }

  void add_parts(const Map::Chain& chain, std::uint64_t entry_byte, std::vector<Part>& out) const {
    std::uint32_t previous = 0;
    Part part;
    const auto close = [&](std::uint32_t after) {
      if (part.clusters.empty()) return;
      part.after = after;
      out.push_back(std::exchange(part, {}));
    };
    for (const ClusterRange& r : chain.ranges) {
      for (std::uint32_t c = r.first; c < r.first + r.count; ++c) {
        if (c >= hole_.first && c - hole_.first < hole_.count) {
          if (part.clusters.empty()) {
            part.before = previous;
            part.entry_byte = entry_byte;
          }
          part.clusters.push_back(c);
        } else {
          close(c);
        }
        previous = c;
      }
    }
    close(end_of_chain);
  }

  // The disk's sector of the link that a part hangs on, from the volume's first.
  [[nodiscard]] std::optional<std::uint64_t> link_of(const Part& part) const {
    if (part.before == 0) return part.entry_byte / disk_.sector_size();
    return Draft(disk_, place_, geometry_).sector_of_entry(geometry_.active_fat, part.before);
  }

  std::optional<Room> make_moves(const std::vector<Part>& parts, std::size_t max_switches) {
    std::map<std::uint64_t, std::vector<const Part*>> by_link;
    for (const Part& part : parts) {
      const auto link = link_of(part);
      if (!link) return std::nullopt;
      by_link[*link].push_back(&part);
      if (by_link.size() > max_switches) return std::nullopt;
    }
    Room out;
    Draft draft(disk_, place_, geometry_);
    for (const auto& [link, group] : by_link) out.moves.push_back(move(link, group, draft, out));
    return out;
  }

  Move move(std::uint64_t link, const std::vector<const Part*>& group, Draft& draft, Room& room) {
    Move out;
    Draft start = draft;
    std::vector<std::uint32_t> heads;
    for (const Part* part : group) {
      std::vector<std::uint32_t> targets;
      for (const std::uint32_t from : part->clusters) {
        targets.push_back(take_target());
        add_contents(from, targets.back(), out);
        ++room.clusters;
      }
      for (std::size_t i = 0; i < targets.size(); ++i)
        draft.set_entry(targets[i], i + 1 < targets.size() ? targets[i + 1] : part->after);
      heads.push_back(targets.front());
    }
    for (SectorWrite& w : draft.changes(&start)) {
      // In the link's own sector new entries and link become true together.
      if (w.lba != place_.first + link) out.before.push_back(std::move(w));
    }
    const Draft prepared = draft;
    for (std::size_t i = 0; i < group.size(); ++i) set_link(*group[i], heads[i], draft);
    out.change = {place_.first + link, draft.at(link)};
    for (std::size_t i = 0; i < group.size(); ++i) {
      if (group[i]->before != 0) draft.set_entry(group[i]->before, heads[i]);
      for (const std::uint32_t from : group[i]->clusters) draft.set_entry(from, 0);
    }
    for (SectorWrite& w : draft.changes(&prepared)) {
      if (w.lba != out.change.lba || w.data != out.change.data) out.behind.push_back(std::move(w));
    }
    return out;
  }

  void set_link(const Part& part, std::uint32_t head, Draft& draft) const {
    if (part.before != 0) return draft.set_entry(geometry_.active_fat, part.before, head);
    Bytes& sector = draft.at(part.entry_byte / disk_.sector_size());
    const std::size_t at = part.entry_byte % disk_.sector_size();
    auto entry = load<DirEntry>(sector, at);
    entry.DIR_FstClusHI = static_cast<std::uint16_t>(head >> 16);
    entry.DIR_FstClusLO = static_cast<std::uint16_t>(head);
    store(entry, sector, at);
  }

  void add_contents(std::uint32_t from, std::uint32_t to, Move& out) const {
    const SectorRange source = sectors_of({from, 1});
    const std::uint64_t target = place_.first + sectors_of({to, 1}).first;
    if (!out.contents.empty()) {
      auto& [range, lba] = out.contents.back();
      if (range.end() == place_.first + source.first && lba + range.count == target) {
        range.count += source.count;
        return;
      }
    }
    out.contents.push_back({{place_.first + source.first, source.count}, target});
  }

  const Device& disk_;
  SectorRange place_;
  Window window_;
  const ReadOptions& options_;
  Geometry geometry_;
  std::uint32_t ratio_;
  Map map_;
  ClusterRange hole_;
  std::vector<ClusterRange> targets_;  // free, outside the hole, the smallest first
  std::size_t next_target_ = 0;
};

}  // namespace

std::optional<Room> make_way(const Device& disk, SectorRange place, const ReadOptions& options,
                             const Piece& wanted) {
  return WayMaker(disk, place, options).run(wanted.sectors, wanted.within, wanted.max_switches);
}

}  // namespace nuvrat::fat

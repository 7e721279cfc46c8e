#include "fat/plan.h"

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "fat/names.h"
#include "fat/writer_directory.h"
#include "tree/folders_ahead.h"
#include "tree/free_runs.h"

namespace nuvrat::fat {
namespace {

constexpr std::size_t max_entries = max_directory_bytes / sizeof(DirEntry);

bool has_label(const Geometry& g) {
  return g.label[0] != 0;
}

std::u16string_view name_of(const FileTree& tree, const Target& target, FileTree::Id id) {
  const auto other = target.names.find(id);
  return other == target.names.end() ? tree.name(id) : other->second;
}

struct MadeDirectory {
  std::unique_ptr<NewDirectory> entries;
  std::vector<Plan::Entry> items;
  std::vector<FileTree::Id> unkept;  // whose short names become others
};

MadeDirectory make_directory(const FileTree& tree, const Target& target, const CodePage& page,
                             FileTree::Id folder) {
  MadeDirectory made;
  made.entries = std::make_unique<NewDirectory>(page, target.zone);
  NewDirectory* const out = made.entries.get();
  const auto info_of = [&tree](FileTree::Id id) {
    const FileTree::Info info = tree.info(id);
    FatFileInfo to;
    to.attributes = info.attributes & (attr_read_only | attr_hidden | attr_system | attr_archive);
    to.created = info.created;
    to.modified = info.modified;
    to.accessed = info.accessed;
    return to;
  };
  if (folder == FileTree::root) {
    if (has_label(target.geometry)) out->add_label(target.geometry.label);
  } else {
    out->add_dots(info_of(folder));
  }
  const std::vector<FileTree::Id> children = tree.children(folder);
  for (const FileTree::Id id : children) {
    if (!tree.is_stream(id)) out->announce(name_of(tree, target, id));
  }
  // Short names that files have already are theirs, whatever is made for the others.
  for (const FileTree::Id id : children) {
    if (tree.is_stream(id) || target.names.count(id) != 0) continue;
    if (!out->keep(name_of(tree, target, id), tree.short_name(id))) made.unkept.push_back(id);
  }
  for (const FileTree::Id id : children) {
    if (tree.is_stream(id)) continue;
    const bool directory = tree.is_directory(id);
    const std::size_t index = out->add(name_of(tree, target, id), info_of(id), directory,
                                       directory ? 0 : tree.bytes(id), tree.is_short_only(id));
    made.items.push_back({id, index});
  }
  return made;
}

}  // namespace

Plan::Plan(const FileTree& tree, Target target)
    : tree_(tree), target_(std::move(target)), page_(std::make_unique<CodePage>(target_.codepage)) {
  Geometry& g = target_.geometry;
  tree::FreeRuns runs(*target_.free, g.data_start(), g.cluster_sectors, 0, g.clusters);
  free_ = runs.capacity();
  const auto give = [&](FileTree::Id id, std::uint64_t clusters) {
    if (clusters == 0) return;
    Runs taken = runs.take(clusters);
    for (Run& r : taken) r.lcn += 2;
    given_[id] = std::move(taken);
  };
  const auto entries_of = [this](FileTree::Id id) {
    const MadeDirectory made = make_directory(tree_, target_, *page_, id);
    unkept_.insert(unkept_.end(), made.unkept.begin(), made.unkept.end());
    return made.entries->entries();
  };
  tree::each_folder_ahead(tree_, entries_of, [&](FileTree::Id id, std::size_t count) {
    if (count > max_entries) {
      throw Error(ErrorCode::refused,
                  fmt::format("the folder would have {} entries, and FAT knows 65,536", count),
                  {.path = tree_.path(id)});
    }
    if (id == FileTree::root && g.kind != VolumeKind::fat32) return;
    give(id, std::max<std::uint64_t>(1, div_up<std::uint64_t>(count * 32, g.cluster_bytes())));
  });
  for (FileTree::Id id = 1; id < tree_.size(); ++id) {
    if (tree_.is_directory(id) || tree_.is_stream(id)) continue;
    const std::uint64_t clusters = div_up<std::uint64_t>(tree_.bytes(id), g.cluster_bytes());
    std::uint64_t stay = 0;
    for (const Part& p : staying(id)) stay += p.clusters.count;
    used_ += stay;
    copied_ += clusters - stay;
    give(id, clusters - stay);
  }
  needed_ = runs.used();
  missing_ = runs.missing();
  used_ += needed_;
  if (g.kind == VolumeKind::fat32) g.root_cluster = first_cluster(FileTree::root);
}

bool Plan::fats_are_free() const {
  const Geometry& g = target_.geometry;
  return target_.free->contains({g.reserved_sectors, g.data_start() - g.reserved_sectors});
}

std::unique_ptr<NewDirectory> Plan::directory_of(FileTree::Id folder,
                                                 std::vector<Entry>& entries) const {
  MadeDirectory made = make_directory(tree_, target_, *page_, folder);
  entries = std::move(made.items);
  return std::move(made.entries);
}

std::vector<Plan::Part> Plan::staying(FileTree::Id id) const {
  const Geometry& g = target_.geometry;
  std::vector<Part> out;
  if (tree_.stored(id) != Stored::extents || tree_.link(id) != FileTree::none) return out;
  const std::uint64_t data = g.data_start();
  const std::uint64_t spc = g.cluster_sectors;
  const std::uint64_t total = div_up<std::uint64_t>(tree_.bytes(id), g.cluster_bytes());
  const std::uint64_t sectors = div_up<std::uint64_t>(tree_.bytes(id), g.sector_bytes);
  // What was never written must become zeros, and is not to be touched where it lies.
  const std::uint64_t valid = tree_.valid_bytes(id);
  const std::uint64_t whole = valid == tree_.bytes(id) ? total : valid / g.cluster_bytes();
  std::uint64_t at = 0;  // in sectors of the file
  for (const SectorRange& e : tree_.extents(id)) {
    const std::uint64_t index = div_up(at, spc);
    const std::uint64_t skip = index * spc - at;
    at += e.count;
    if (e.first >= FileTree::hole || skip >= e.count) continue;
    const std::uint64_t first = target_.front + e.first + skip;
    if (first < data || (first - data) % spc != 0) continue;
    const std::uint64_t cluster = (first - data) / spc;
    std::uint64_t count = (e.count - skip) / spc;
    // A cluster that the file doesn't fill stays if the rest of it is free.
    const std::uint64_t rest = (e.count - skip) % spc;
    const bool last = rest > 0 && index + count + 1 == total && at >= sectors;
    if (last && target_.free->contains({first + count * spc + rest, spc - rest})) ++count;
    count = std::min({count, total - std::min(total, index), whole - std::min(whole, index),
                      g.clusters - std::min<std::uint64_t>(g.clusters, cluster)});
    if (count == 0) continue;
    out.push_back({index,
                   {static_cast<std::uint32_t>(cluster + 2), static_cast<std::uint32_t>(count)},
                   false});
  }
  return out;
}

std::vector<Plan::Part> Plan::parts_of(FileTree::Id id) const {
  std::vector<Part> out;
  const auto found = given_.find(id);
  if (tree_.is_directory(id)) {
    std::uint64_t index = 0;
    for (const Run& r : found == given_.end() ? Runs{} : found->second) {
      out.push_back(
          {index, {static_cast<std::uint32_t>(r.lcn), static_cast<std::uint32_t>(r.count)}, true});
      index += r.count;
    }
    return out;
  }
  if (tree_.is_stream(id)) return out;
  const std::uint64_t total =
      div_up<std::uint64_t>(tree_.bytes(id), target_.geometry.cluster_bytes());
  Runs given = found == given_.end() ? Runs{} : found->second;
  std::size_t next = 0;
  std::uint64_t index = 0;
  const auto copy_until = [&](std::uint64_t end) {
    while (index < end && next < given.size()) {
      Run& r = given[next];
      const std::uint64_t count = std::min(r.count, end - index);
      out.push_back(
          {index, {static_cast<std::uint32_t>(r.lcn), static_cast<std::uint32_t>(count)}, true});
      r.lcn += count;
      r.count -= count;
      if (r.count == 0) ++next;
      index += count;
    }
  };
  for (const Part& p : staying(id)) {
    copy_until(p.index);
    out.push_back(p);
    index = p.index + p.clusters.count;
  }
  copy_until(total);
  return out;
}

std::vector<ClusterRange> Plan::chain_of(FileTree::Id id) const {
  std::vector<ClusterRange> out;
  for (const Part& p : parts_of(id)) {
    if (!out.empty() && out.back().first + out.back().count == p.clusters.first) {
      out.back().count += p.clusters.count;
    } else {
      out.push_back(p.clusters);
    }
  }
  return out;
}

std::uint32_t Plan::first_cluster(FileTree::Id id) const {
  if (tree_.is_directory(id)) {
    const auto given = given_.find(id);
    return given == given_.end() ? 0 : static_cast<std::uint32_t>(given->second.front().lcn);
  }
  const std::vector<Part> parts = parts_of(id);
  return parts.empty() ? 0 : parts.front().clusters.first;
}

std::vector<ClusterRange> Plan::bad_clusters() const {
  const Geometry& g = target_.geometry;
  const std::uint64_t data = g.data_start();
  SectorSet clusters;
  for (const SectorRange& r : target_.bad) {
    const std::uint64_t first = r.first < data ? 0 : (r.first - data) / g.cluster_sectors;
    const std::uint64_t end =
        r.end() <= data ? 0
                        : std::min<std::uint64_t>(
                              div_up<std::uint64_t>(r.end() - data, g.cluster_sectors), g.clusters);
    if (first < end) clusters.add({first, end - first});
  }
  std::vector<ClusterRange> out;
  for (const SectorRange& r : clusters)
    out.push_back({static_cast<std::uint32_t>(r.first + 2), static_cast<std::uint32_t>(r.count)});
  return out;
}

std::uint32_t Plan::first_free() const {
  SectorSet used;
  each_chain([&](const std::vector<ClusterRange>& chain) {
    for (const ClusterRange& r : chain) used.add({r.first, r.count});
  });
  for (const ClusterRange& r : bad_clusters()) used.add({r.first, r.count});
  const auto gaps = used.gaps({2, target_.geometry.clusters}).ranges();
  return gaps.empty() ? 0 : static_cast<std::uint32_t>(gaps.front().first);
}

std::map<FileTree::Id, std::u16string> safe_names(const FileTree& tree) {
  std::map<FileTree::Id, std::u16string> out;
  for (FileTree::Id folder = 0; folder < tree.size(); ++folder) {
    if (!tree.is_directory(folder)) continue;
    // Who can keep a name keeps it; the others choose from what is left.
    std::set<std::u16string> taken;
    std::vector<FileTree::Id> others;
    for (const FileTree::Id id : tree.children(folder)) {
      if (tree.is_stream(id)) continue;
      if (!allows_name(tree.name(id)) || !taken.insert(fold_case(tree.name(id))).second)
        others.push_back(id);
    }
    for (const FileTree::Id id : others) {
      const std::u16string base = cut(safe_name(tree.name(id)), 245);
      const std::size_t dot = std::min(base.rfind(u'.'), base.size());
      std::u16string name = base;
      for (unsigned n = 2; !taken.insert(fold_case(name)).second; ++n)
        name = base.substr(0, dot) + u" (" + to_utf16(std::to_string(n)) + u")" + base.substr(dot);
      out[id] = std::move(name);
    }
  }
  return out;
}

std::uint64_t root_entries_of(const FileTree& tree, const Target& target) {
  return make_directory(tree, target, CodePage(target.codepage), FileTree::root).entries->entries();
}

}  // namespace nuvrat::fat

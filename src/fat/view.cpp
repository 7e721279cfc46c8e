#include "fat/view.h"

#include <algorithm>
#include <utility>

#include <fmt/core.h>

#include "base/ahead.h"
#include "device/given.h"

namespace nuvrat::fat {
namespace {

constexpr std::size_t batch_bytes = 128u << 10;
constexpr std::size_t max_ahead = 1u << 20;

}  // namespace

View::View(const Device& device, const ReadOptions& options, const Geometry& geometry,
           std::uint32_t copy)
    : device_(device),
      page_(options.codepage),
      zone_(options.zone),
      short_names_(options.short_names),
      geometry_(geometry),
      ratio_(geometry.sector_bytes / device.sector_size()),
      map_(device, geometry, copy),
      chains_(map_.budget()),
      agreement_(map_) {
  root_bytes_ = read_folder(root());
}

std::string View::label() const {
  const auto in_root = parse_directory(*root_bytes_, page_, zone_).label;
  if (in_root) return label_text(*in_root, page_);
  const std::string name = label_text(geometry_.label, page_);
  return name != "NO NAME" && name.find('\0') == std::string::npos ? name : "";
}

void View::add_finding(Rule code, Severity severity, const Spot& at, std::string text,
                       bool repairable) {
  log_.add(
      code, severity,
      [&] { return Place{.sector = at.sector, .record = at.record, .path = tree_.path(at.node)}; },
      std::move(text), repairable);
}

View::Folder View::root() const {
  const bool fixed = geometry_.kind != VolumeKind::fat32;
  return {FileTree::root, fixed ? 0 : geometry_.root_cluster, 0, Agreement::root};
}

// What the device doesn't give reads as deleted entries: zeros would end the folder there.
void View::read_entries(const Folder& folder, std::uint64_t lba, ByteSpan out) {
  if (device::is_given(device_, lba, out)) return;
  for (std::uint64_t at = 0; at < out.size(); at += device_.sector_size()) {
    const ByteSpan sector = out.subspan(at, device_.sector_size());
    const std::uint64_t number = lba + at / device_.sector_size();
    if (device::is_given(device_, number, sector)) continue;
    std::fill(sector.begin(), sector.end(), entry_deleted);
    add_finding(Rule::fat_folder_unreadable, Severity::error, {number, {}, folder.id},
                "a part of the folder can't be read");
    leave_out({tree_.path(folder.id),
               {},
               fmt::format("the device doesn't give sector {} of the volume", number)});
  }
}

// The folder's bytes, as far as its chain is sound and its own, and the format allows.
Bytes View::read_folder(const Folder& folder) {
  if (folder.cluster == 0) {
    Bytes out(std::uint64_t{geometry_.root_sectors} * ratio_ * device_.sector_size());
    read_entries(folder, geometry_.root_start() * ratio_, out);
    return out;
  }
  const Map::Chain chain = map_.chain(folder.cluster, chains_);
  agreement_.follow(folder.entry, chain);
  if (!chain.sound()) {
    add_finding(Rule::fat_chain, Severity::error, {{}, {}, folder.id},
                "the folder's chain is broken: " + chain.text);
    leave_out({tree_.path(folder.id), {}, "the folder's chain is broken: " + chain.text});
  }
  Bytes out;
  for (const ClusterRange& r : chain.ranges) {
    const SectorRange range = sectors_of(r);
    if (folder_sectors_.first_overlap(range)) {
      add_finding(Rule::fat_folder_twice, Severity::error, {range.first, {}, folder.id},
                  "the folder's clusters are another folder's, or come again");
      leave_out({tree_.path(folder.id), {}, "its clusters are another folder's, or come again"});
      break;
    }
    folder_sectors_.add(range);
    const std::uint64_t room = max_directory_bytes - out.size();
    const std::uint64_t count = std::min(range.count, room / device_.sector_size());
    const std::size_t at = out.size();
    out.resize(at + count * device_.sector_size());
    read_entries(folder, range.first, ByteSpan(out).subspan(at));
    if (count < range.count) {
      add_finding(Rule::fat_folder_too_long, Severity::error, {range.first, {}, folder.id},
                  "the folder has more than 65,536 entries");
      leave_out({tree_.path(folder.id), {}, "it has more than 65,536 entries"});
      break;
    }
  }
  return out;
}

// Several folders at a time: read in turn, parsed on every core, added in turn.
void View::walk() {
  tree_.set_precision({ticks_per_second / 100, 2 * ticks_per_second, 86400 * ticks_per_second});
  std::vector<Folder> open{root()};
  std::set<std::uint32_t> seen{root().cluster};
  // Folders that one thread tells apart.
  struct Batch {
    std::vector<Folder> folders;
    std::vector<Bytes> contents;
    std::size_t bytes = 0;
  };
  while (!open.empty()) {
    std::vector<Batch> batches;
    for (std::size_t total = 0; !open.empty() && total < max_ahead;) {
      if (batches.empty() || batches.back().bytes >= batch_bytes) batches.emplace_back();
      Batch& batch = batches.back();
      batch.folders.push_back(open.back());
      open.pop_back();
      batch.contents.push_back(contents_of(batch.folders.back()));
      batch.bytes += batch.contents.back().size();
      total += batch.contents.back().size();
    }
    std::size_t taken = 0;
    base::make_ahead(
        batches.size(),
        [&](std::size_t i) {
          std::vector<DirectoryContents> out;
          for (const Bytes& bytes : batches[i].contents)
            out.push_back(parse_directory(bytes, page_, zone_));
          return out;
        },
        [&](const std::vector<DirectoryContents>& parsed) {
          const Batch& batch = batches[taken++];
          for (std::size_t i = 0; i < parsed.size(); ++i)
            add_items(batch.folders[i], parsed[i], open, seen);
        });
  }
}

Bytes View::contents_of(const Folder& folder) {
  return folder.id == FileTree::root && root_bytes_ ? *std::exchange(root_bytes_, std::nullopt)
                                                    : read_folder(folder);
}

void View::add_items(const Folder& folder, const DirectoryContents& contents,
                     std::vector<Folder>& open, std::set<std::uint32_t>& seen) {
  agreement_.begun(folder.id == FileTree::root, folder.cluster, contents.own_cluster);
  for (const std::uint32_t index : contents.orphans) {
    add_finding(Rule::fat_long_name_orphan, Severity::note, {{}, index, folder.id},
                "entries of a long name belong to no file; they are ignored");
  }
  for (const DirectoryItem& item : contents.items) add_item(folder, item, open, seen);
}

void View::add_item(const Folder& folder, const DirectoryItem& item, std::vector<Folder>& open,
                    std::set<std::uint32_t>& seen) {
  const Agreement::Entry entry{folder.cluster, item.index};
  const FileTree::Id id = tree_.add(
      folder.id, item.name, short_names_ ? std::u16string_view(item.short_name) : u"", item.info);
  if (!item.has_long) tree_.set_short_only(id);
  if (item.name.empty() ||
      item.name.find_first_of(std::u16string_view(u"/\0", 2)) != item.name.npos) {
    add_finding(Rule::fat_name_illegal, Severity::error, {{}, item.index, id},
                "the name is empty or holds a character that no name may hold");
  }
  if (item.info.directory) {
    if (!geometry_.valid_cluster(item.cluster)) {
      add_finding(Rule::fat_folder_cluster, Severity::error, {{}, item.index, id},
                  fmt::format("the folder would begin at cluster {}", item.cluster));
      leave_out({tree_.path(id), item.index,
                 fmt::format("the folder would begin at cluster {}", item.cluster)});
    } else if (!seen.insert(item.cluster).second) {
      add_finding(Rule::fat_folder_twice, Severity::error, {{}, item.index, id},
                  fmt::format("another folder begins at cluster {} as well", item.cluster));
      leave_out({tree_.path(id), item.index,
                 fmt::format("another folder begins at cluster {} as well", item.cluster)});
    } else if (const std::size_t units = folder.path_units + 1 + item.name.size();
               units > FileTree::max_path_units) {
      add_finding(Rule::fat_path_too_long, Severity::error, {{}, item.index, folder.id},
                  "folders inside it are too deep for any system");
      leave_out({tree_.path(folder.id), item.index, "folders inside it are too deep"});
    } else {
      open.push_back({id, item.cluster, units, entry});
    }
    return;
  }
  if (item.info.size > 0 || item.cluster != 0) {
    add_extents(id, entry, item);
  } else {
    agreement_.follow(entry, {}, 0);
  }
}

void View::add_extents(FileTree::Id id, Agreement::Entry entry, const DirectoryItem& item) {
  const Map::Chain chain = map_.chain(item.cluster, chains_);
  const std::uint64_t needed = div_up<std::uint64_t>(item.info.size, geometry_.cluster_bytes());
  agreement_.follow(entry, chain, needed);
  if (!chain.sound()) {
    add_finding(Rule::fat_chain, Severity::error, {{}, item.index, id},
                "the file's chain is broken: " + chain.text);
  } else if (chain.clusters < needed) {
    add_finding(Rule::fat_chain_short, Severity::error, {{}, item.index, id},
                fmt::format("the file has {} bytes, its chain only {} clusters of {}",
                            item.info.size, chain.clusters, geometry_.cluster_bytes()));
  } else if (chain.clusters > needed) {
    add_finding(Rule::fat_chain_long, Severity::warning, {{}, item.index, id},
                fmt::format("the file has {} bytes, but a chain of {} clusters", item.info.size,
                            chain.clusters));
  }
  std::vector<SectorRange> extents;
  for (const ClusterRange& r : chain.ranges) extents.push_back(sectors_of(r));
  tree_.set_extents(id, extents);
}

}  // namespace nuvrat::fat

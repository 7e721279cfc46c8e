#include "fat/read.h"

#include <algorithm>
#include <set>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/ahead.h"
#include "base/finding_log.h"
#include "device/given.h"
#include "fat/directory.h"
#include "fat/fat_map.h"

namespace nuvrat::fat {
namespace {

class FatReader final : public VolumeReader {
 public:
  FatReader(const Device& device, const ReadOptions& options)
      : device_(device),
        page_(options.codepage),
        zone_(options.zone),
        short_names_(options.short_names),
        geometry_(geometry_of(device, device.read(0))),
        ratio_(geometry_.sector_bytes / device.sector_size()) {
    map_.emplace(device_, geometry_, geometry_.active_fat);
    chains_.emplace(map_->budget());
    fill_info();
    if (const std::uint64_t count = map_->replaced().count(); count > 0)
      add_finding("fat.unreadable", Severity::error, map_->replaced().ranges().front().first, {},
                  FileTree::root, unreadable_fat_words(count));
  }

  [[nodiscard]] const VolumeInfo& info() const override { return info_; }
  [[nodiscard]] const Findings& findings() const override { return log_.kept(); }
  [[nodiscard]] const Device& device() const override { return device_; }

  [[nodiscard]] const FileTree& tree() override {
    if (!walked_) walk();
    walked_ = true;
    return tree_;
  }

  [[nodiscard]] FileTree take_tree() override {
    (void)tree();
    return std::exchange(tree_, FileTree());
  }

  [[nodiscard]] SectorSet bad() const override {
    SectorSet out;
    for (const ClusterRange& r : map_->bad()) out.add(sectors_of(r));
    return out;
  }

  void read_contents(FileTree::Id /*id*/, const std::function<void(ByteView)>& /*sink*/) override {
    throw Error(ErrorCode::words, "on FAT all contents are in extents");
  }

  [[nodiscard]] SectorSet owned() override {
    SectorSet out{{0, geometry_.data_start() * ratio_}};
    map_->each_used([&](ClusterRange r) { out.add(sectors_of(r)); });
    return out;
  }

 private:
  struct Folder {
    FileTree::Id id;
    std::uint32_t cluster;  // 0: the fixed root
    std::size_t path_units;
  };
  // Folders that one thread tells apart.
  struct Batch {
    std::vector<Folder> folders;
    std::vector<Bytes> contents;
    std::size_t bytes = 0;
  };
  static constexpr std::size_t batch_bytes = 128u << 10;
  static constexpr std::size_t max_ahead = 1u << 20;

  void add_finding(const char* code, Severity severity, std::optional<std::uint64_t> sector,
                   std::optional<std::uint64_t> record, FileTree::Id node, std::string text) {
    log_.add(
        code, severity,
        [&] {
          return Place{{}, sector, record, tree_.path(node)};
        },
        std::move(text));
  }

  [[nodiscard]] SectorRange sectors_of(ClusterRange r) const {
    return {geometry_.cluster_start(r.first) * ratio_,
            std::uint64_t{r.count} * geometry_.cluster_sectors * ratio_};
  }

  void fill_info() {
    info_.kind = geometry_.kind;
    info_.serial = fmt::format("{:04X}-{:04X}", geometry_.serial >> 16, geometry_.serial & 0xFFFF);
    info_.serial_number = geometry_.serial;
    info_.first_cluster = geometry_.data_start() * ratio_;
    info_.sectors = geometry_.total_sectors * ratio_;
    info_.bytes = info_.sectors * device_.sector_size();
    info_.cluster_bytes = geometry_.cluster_bytes();
    info_.free_bytes = std::uint64_t{map_->free_clusters()} * geometry_.cluster_bytes();
    info_.hidden_sectors = geometry_.hidden_sectors;
    info_.clean = map_->clean() && !geometry_.dirty_flag;
    if (!info_.clean) {
      add_finding("fat.not-clean", Severity::error, 0, {}, FileTree::root,
                  "the volume was not closed properly, or errors were noted on it; start it once "
                  "under the system that owns it, or check it there");
    }
    // Read once: the walk begins with it.
    root_bytes_ = read_folder({FileTree::root, root_cluster(), 0});
    const auto root = parse_directory(*root_bytes_, page_, zone_);
    if (root.label) {
      info_.label = label_text(*root.label, page_);
    } else if (const std::string name = label_text(geometry_.label, page_);
               name != "NO NAME" && name.find('\0') == std::string::npos) {
      info_.label = name;
    }
  }

  [[nodiscard]] std::uint32_t root_cluster() const {
    return geometry_.kind == VolumeKind::fat32 ? geometry_.root_cluster : 0;
  }

  // What the device doesn't give reads as deleted entries: zeros would end the folder there.
  void read_entries(const Folder& folder, std::uint64_t lba, ByteSpan out) {
    constexpr std::uint8_t deleted = 0xE5;
    if (device::is_given(device_, lba, out)) return;
    for (std::uint64_t at = 0; at < out.size(); at += device_.sector_size()) {
      const ByteSpan sector = out.subspan(at, device_.sector_size());
      const std::uint64_t number = lba + at / device_.sector_size();
      if (device::is_given(device_, number, sector)) continue;
      std::fill(sector.begin(), sector.end(), deleted);
      add_finding("fat.folder-unreadable", Severity::error, number, {}, folder.id,
                  "a part of the folder can't be read");
      leave_out({tree_.path(folder.id),
                 {},
                 fmt::format("the device doesn't give sector {} of the volume", number)});
    }
  }

  // The folder's bytes, as far as its chain is sound and its own, and the format allows.
  Bytes read_folder(const Folder& folder) {
    if (folder.cluster == 0) {
      Bytes out(std::uint64_t{geometry_.root_sectors} * ratio_ * device_.sector_size());
      read_entries(folder, geometry_.root_start() * ratio_, out);
      return out;
    }
    const Map::Chain chain = map_->chain(folder.cluster, *chains_);
    if (!chain.sound()) {
      add_finding("fat.chain", Severity::error, {}, {}, folder.id,
                  "the folder's chain is broken: " + chain.text);
      leave_out({tree_.path(folder.id), {}, "the folder's chain is broken: " + chain.text});
    }
    Bytes out;
    for (const ClusterRange& r : chain.ranges) {
      const SectorRange range = sectors_of(r);
      if (folder_sectors_.first_overlap(range)) {
        add_finding("fat.folder-twice", Severity::error, range.first, {}, folder.id,
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
        add_finding("fat.folder-too-long", Severity::error, range.first, {}, folder.id,
                    "the folder has more than 65,536 entries");
        leave_out({tree_.path(folder.id), {}, "it has more than 65,536 entries"});
        break;
      }
    }
    return out;
  }

  // Several folders at a time: read in turn, parsed on every core, added in turn.
  void walk() {
    tree_.set_precision({ticks_per_second / 100, 2 * ticks_per_second, 86400 * ticks_per_second});
    std::vector<Folder> open{{FileTree::root, root_cluster(), 0}};
    std::set<std::uint32_t> seen{root_cluster()};
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

  Bytes contents_of(const Folder& folder) {
    return folder.id == FileTree::root && root_bytes_ ? *std::exchange(root_bytes_, std::nullopt)
                                                      : read_folder(folder);
  }

  void add_items(const Folder& folder, const DirectoryContents& contents, std::vector<Folder>& open,
                 std::set<std::uint32_t>& seen) {
    for (const std::uint32_t index : contents.orphans) {
      add_finding("fat.long-name-orphan", Severity::note, {}, index, folder.id,
                  "entries of a long name belong to no file; they are ignored");
    }
    for (const DirectoryItem& item : contents.items) add_item(folder, item, open, seen);
  }

  void add_item(const Folder& folder, const DirectoryItem& item, std::vector<Folder>& open,
                std::set<std::uint32_t>& seen) {
    const FileTree::Id id = tree_.add(
        folder.id, item.name, short_names_ ? std::u16string_view(item.short_name) : u"", item.info);
    if (!item.has_long) tree_.set_short_only(id);
    if (item.name.empty() ||
        item.name.find_first_of(std::u16string_view(u"/\0", 2)) != item.name.npos) {
      add_finding("fat.name-illegal", Severity::error, {}, item.index, id,
                  "the name is empty or holds a character that no name may hold");
    }
    if (item.info.directory) {
      if (!geometry_.valid_cluster(item.cluster)) {
        add_finding("fat.folder-cluster", Severity::error, {}, item.index, id,
                    fmt::format("the folder would begin at cluster {}", item.cluster));
        leave_out({tree_.path(id), item.index,
                   fmt::format("the folder would begin at cluster {}", item.cluster)});
      } else if (!seen.insert(item.cluster).second) {
        add_finding("fat.folder-twice", Severity::error, {}, item.index, id,
                    fmt::format("another folder begins at cluster {} as well", item.cluster));
        leave_out({tree_.path(id), item.index,
                   fmt::format("another folder begins at cluster {} as well", item.cluster)});
      } else if (const std::size_t units = folder.path_units + 1 + item.name.size();
                 units > FileTree::max_path_units) {
        add_finding("fat.path-too-long", Severity::error, {}, item.index, folder.id,
                    "folders inside it are too deep for any system");
        leave_out({tree_.path(folder.id), item.index, "folders inside it are too deep"});
      } else {
        open.push_back({id, item.cluster, units});
      }
      return;
    }
    if (item.info.size > 0 || item.cluster != 0) add_extents(id, item);
  }

  void add_extents(FileTree::Id id, const DirectoryItem& item) {
    const Map::Chain chain = map_->chain(item.cluster, *chains_);
    const std::uint64_t needed = div_up<std::uint64_t>(item.info.size, geometry_.cluster_bytes());
    if (!chain.sound()) {
      add_finding("fat.chain", Severity::error, {}, item.index, id,
                  "the file's chain is broken: " + chain.text);
    } else if (chain.clusters < needed) {
      add_finding("fat.chain-short", Severity::error, {}, item.index, id,
                  fmt::format("the file has {} bytes, its chain only {} clusters of {}",
                              item.info.size, chain.clusters, geometry_.cluster_bytes()));
    } else if (chain.clusters > needed) {
      add_finding("fat.chain-long", Severity::warning, {}, item.index, id,
                  fmt::format("the file has {} bytes, but a chain of {} clusters", item.info.size,
                              chain.clusters));
    }
    std::vector<SectorRange> extents;
    for (const ClusterRange& r : chain.ranges) extents.push_back(sectors_of(r));
    tree_.set_extents(id, extents);
  }

  const Device& device_;
  CodePage page_;
  Zone zone_;
  bool short_names_;
  Geometry geometry_;
  std::uint32_t ratio_;
  std::optional<Map> map_;
  std::optional<Bytes> root_bytes_;
  VolumeInfo info_;
  FileTree tree_;
  base::FindingLog log_;
  std::optional<base::Budget> chains_;
  SectorSet folder_sectors_;  // of the folders read so far
  bool walked_ = false;
};

}  // namespace

bool is_fat_boot(ByteView sector0) {
  std::string fault;
  return parse_boot(sector0, fault).has_value();
}

std::unique_ptr<VolumeReader> open_reader(const Device& device, const ReadOptions& options) {
  return std::make_unique<FatReader>(device, options);
}

}  // namespace nuvrat::fat

#include <algorithm>
#include <map>
#include <vector>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/fat_writer.h>
#include <nuvrat/file_tree.h>

#include "base/record.h"
#include "fat/build.h"
#include "fat/fat_map.h"
#include "fat/names.h"

namespace nuvrat {
namespace {

fat::Geometry plan_geometry(const Device& device, const FatFormat& format) {
  fat::Geometry g;
  g.kind = format.kind;
  g.sector_bytes = device.sector_size();
  g.cluster_sectors = format.cluster_sectors;
  const bool fat32 = format.kind == VolumeKind::fat32;
  g.reserved_sectors = format.reserved_sectors != 0 ? format.reserved_sectors : fat32 ? 32 : 1;
  g.fats = format.fats;
  g.root_entries = fat32 ? 0 : format.root_entries;
  g.root_sectors = div_up<std::uint32_t>(g.root_entries * 32, g.sector_bytes);
  g.total_sectors = device.sectors();
  g.serial = format.serial;
  if (fat32) g.fs_info = 1, g.backup_boot = 6;
  g.hidden_sectors = static_cast<std::uint32_t>(format.hidden_sectors);
  // The FATs and the data share the room: the smallest FAT that has an entry for every cluster it
  // leaves. `fits` is true from that size on.
  const auto fits = [&](std::uint32_t fat_sectors) {
    g.fat_sectors = fat_sectors;
    const std::uint64_t data = g.total_sectors - std::min(g.total_sectors, g.data_start());
    const std::uint64_t clusters = data / g.cluster_sectors;
    g.clusters = static_cast<std::uint32_t>(std::min<std::uint64_t>(clusters, 0x0FFFFFF0));
    return fat::fat_bytes(g) <= std::uint64_t{fat_sectors} * g.sector_bytes;
  };
  std::uint32_t low = 1;
  std::uint32_t high = 1u << 22;
  while (low < high) {
    const std::uint32_t middle = low + (high - low) / 2;
    if (fits(middle)) {
      high = middle;
    } else {
      low = middle + 1;
    }
  }
  (void)fits(low);
  if (g.clusters == 0 || fat::kind_for(g.clusters) != format.kind) {
    throw Error(ErrorCode::refused,
                fmt::format("{} sectors with {} a cluster make {} clusters, which is not {}",
                            g.total_sectors, g.cluster_sectors, g.clusters, name_of(format.kind)));
  }
  return g;
}

}  // namespace

class FatWriter::Impl {
 public:
  Impl(Device& device, const FatFormat& format)
      : device_(device),
        format_(format),
        geometry_(plan_geometry(device, format)),
        taken_(std::size_t{geometry_.clusters} + 2) {
    geometry_.label = fat::label_bytes(format.label, CodePage(format.codepage));
  }

  void add_directory(std::string_view path, const FatFileInfo& info) {
    folders_.emplace(path, add(folder_above(path), path, info, true, 0));
  }

  void add_file(std::string_view path, std::uint64_t size, const FatFileInfo& info,
                ByteView content) {
    if (size > 0xFFFFFFFF) {
      throw Error(ErrorCode::refused, "a file on FAT has at most 4 GiB less one byte",
                  {.path = std::string(path)});
    }
    const auto above = folder_above(path);  // a file that is refused leaves nothing
    const auto needed =
        static_cast<std::uint32_t>(div_up<std::uint64_t>(size, geometry_.cluster_bytes()));
    std::vector<SectorRange> extents;
    for (const std::uint32_t c : allocate(needed, info.placement, path)) {
      const SectorRange cluster{geometry_.cluster_start(c), geometry_.cluster_sectors};
      if (!extents.empty() && extents.back().end() == cluster.first) {
        extents.back().count += cluster.count;
      } else {
        extents.push_back(cluster);
      }
    }
    tree_.set_extents(add(above, path, info, false, size), extents);
    for (const SectorRange& e : extents) {
      if (content.empty()) break;
      const std::size_t n = std::min<std::size_t>(content.size(), e.count * geometry_.sector_bytes);
      Bytes padded(content.begin(), content.begin() + static_cast<std::ptrdiff_t>(n));
      padded.resize(div_up<std::size_t>(n, geometry_.sector_bytes) * geometry_.sector_bytes);
      device_.write(e.first, padded);
      content = content.subspan(n);
    }
  }

  void mark_bad(std::uint32_t first, std::uint32_t count) {
    for (std::uint32_t c = first; c < first + count; ++c) {
      if (!geometry_.valid_cluster(c) || taken_[c]) {
        throw Error(ErrorCode::refused, fmt::format("cluster {} is not free", c));
      }
      taken_[c] = true;
      bad_.add({geometry_.cluster_start(c), geometry_.cluster_sectors});
    }
  }

  [[nodiscard]] std::uint32_t free_clusters() const {
    return static_cast<std::uint32_t>(std::count(taken_.begin() + 2, taken_.end(), false));
  }

  void finish() {
    const fat::Plan plan(tree_, target());
    if (!plan.fits()) throw full(plan.needed_clusters(), "");
    const fat::Geometry& g = plan.geometry();
    if (g.kind != VolumeKind::fat32 &&
        fat::root_entries_of(tree_, plan.target()) > g.root_entries) {
      throw Error(ErrorCode::refused,
                  fmt::format("the root folder holds {} entries at most", g.root_entries));
    }
    fat::BuildCallbacks to;
    to.write = [this](std::uint64_t sector, ByteView data) {
      if (!all_zero(data)) device_.write(sector, data);  // it reads as zeros
    };
    to.announce = [](std::string_view) {};
    fat::write_volume(plan, to);
    if (g.reserved_sectors > 1) {
      const auto free = static_cast<std::uint32_t>(g.clusters - bad_.count() / g.cluster_sectors -
                                                   plan.clusters_in_use());
      to.write(1, fat::reserved_area(g, g.reserved_sectors - 1, free, plan.first_free()));
    }
    device_.write(0, fat::boot_sector(g));
    device_.flush();
  }

 private:
  [[nodiscard]] FileTree::Id folder_above(std::string_view path) const {
    const std::string_view above = path.substr(0, std::min(path.rfind('/'), path.size()));
    const auto it = folders_.find(above.size() == path.size() ? "" : above);
    if (it == folders_.end()) {
      throw Error(ErrorCode::words, "the folder does not exist", {.path = std::string(above)});
    }
    return it->second;
  }

  FileTree::Id add(FileTree::Id above, std::string_view path, const FatFileInfo& info,
                   bool directory, std::uint64_t size) {
    const std::uint32_t attributes = directory ? info.attributes & ~attr_archive : info.attributes;
    const FileTree::Id id =
        tree_.add(above, to_utf16(path.substr(path.rfind('/') + 1)), u"",
                  {directory, attributes, size, info.created, info.modified, info.accessed});
    tree_.set_short_only(id);  // a long name only where it must be, as old systems write
    return id;
  }

  std::vector<std::uint32_t> allocate(std::uint32_t count, Placement placement,
                                      std::string_view path) {
    std::vector<std::uint32_t> out;
    const auto take_from = [&](std::uint32_t c, std::uint32_t step) {
      for (; c <= geometry_.last_cluster() && out.size() < count; c += step) {
        if (!taken_[c]) out.push_back(c);
      }
    };
    if (placement == Placement::at_end) {
      for (std::uint32_t c = geometry_.last_cluster(); c >= 2 && out.size() < count; --c) {
        if (!taken_[c]) out.push_back(c);
      }
      std::reverse(out.begin(), out.end());
    } else if (placement == Placement::scattered) {
      take_from(cursor_, 2);
    } else {
      std::uint32_t run = 0;
      for (std::uint32_t c = cursor_; count > 0 && c <= geometry_.last_cluster(); ++c) {
        run = taken_[c] ? 0 : run + 1;
        if (run < count) continue;
        take_from(c - count + 1, 1);
        cursor_ = c + 1;
        break;
      }
      if (out.empty()) take_from(2, 1);  // no run holds it: take what there is
    }
    if (out.size() < count) throw full(count, path);
    for (const std::uint32_t c : out) taken_[c] = true;
    return out;
  }

  [[nodiscard]] Error full(std::uint64_t needed, std::string_view path) const {
    return Error(ErrorCode::refused,
                 fmt::format("the volume is full: {} clusters are needed, {} are free", needed,
                             free_clusters()),
                 {.path = std::string(path)});
  }

  [[nodiscard]] fat::Target target() const {
    fat::Target out{geometry_, format_.codepage, format_.zone, {}, bad_, {}};
    SectorSet used = bad_;
    for (FileTree::Id id = 1; id < tree_.size(); ++id) {
      for (const SectorRange& e : tree_.extents(id)) used.add(e);
    }
    const std::uint64_t first = geometry_.reserved_sectors;
    out.free =
        std::make_shared<const SectorSet>(used.gaps({first, geometry_.total_sectors - first}));
    return out;
  }

  Device& device_;
  FatFormat format_;
  fat::Geometry geometry_;
  std::vector<bool> taken_;  // by cluster
  SectorSet bad_;
  FileTree tree_;
  std::map<std::string, FileTree::Id, std::less<>> folders_{{"", FileTree::root}};
  std::uint32_t cursor_ = 2;
};

FatWriter::FatWriter(Device& device, const FatFormat& format)
    : impl_(std::make_unique<Impl>(device, format)) {}
FatWriter::~FatWriter() = default;

void FatWriter::add_directory(std::string_view path, const FatFileInfo& info) {
  impl_->add_directory(path, info);
}
void FatWriter::add_file(std::string_view path, ByteView content, const FatFileInfo& info) {
  impl_->add_file(path, content.size(), info, content);
}
void FatWriter::add_sparse_file(std::string_view path, std::uint64_t size,
                                const FatFileInfo& info) {
  impl_->add_file(path, size, info, {});
}
void FatWriter::mark_bad(std::uint32_t first, std::uint32_t count) {
  impl_->mark_bad(first, count);
}
std::uint32_t FatWriter::free_clusters() const {
  return impl_->free_clusters();
}
void FatWriter::finish() {
  impl_->finish();
}

}  // namespace nuvrat

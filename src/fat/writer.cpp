#include <algorithm>
#include <map>

#include <fmt/format.h>

#include <nuvrat/error.h>
#include <nuvrat/fat_writer.h>
#include <nuvrat/file_tree.h>

#include "base/record.h"
#include "fat/boot.h"
#include "fat/fat_map.h"
#include "fat/writer_directory.h"

namespace nuvrat {
namespace {

FatGeometry plan_geometry(const Device& device, const FatFormat& format) {
  FatGeometry g;
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
    return fat_bytes_needed(g) <= std::uint64_t{fat_sectors} * g.sector_bytes;
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
  if (g.clusters == 0 || fat_kind_for(g.clusters) != format.kind) {
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
        page_(format.codepage),
        geometry_(plan_geometry(device, format)),
        fat_(std::size_t{geometry_.clusters} + 2) {
    label_.fill(' ');
    const Bytes label = page_.encode(to_utf16(format.label));
    std::copy_n(label.begin(), std::min<std::size_t>(label.size(), 11), label_.begin());
    Folder root{NewDirectory(page_, format_.zone), nullptr, 0, {}, {}};
    if (!format.label.empty()) root.directory.add_label(label_);
    folders_.emplace("", std::move(root));
  }

  void add_directory(std::string_view path, const FatFileInfo& info) {
    const auto [above, name] = split(path);
    FatFileInfo without = info;
    without.attributes &= ~attr_archive;
    const std::size_t index = above->directory.add(to_utf16(name), without, true, 0);
    Folder folder{NewDirectory(page_, format_.zone), above, index, info, {}};
    folder.directory.add_dots(info);
    folders_.emplace(std::string(path), std::move(folder));
  }

  void add_file(std::string_view path, std::uint64_t size, const FatFileInfo& info,
                ByteView content) {
    if (size > 0xFFFFFFFF) {
      throw Error(ErrorCode::refused, "a file on FAT has at most 4 GiB less one byte",
                  {{}, {}, {}, std::string(path)});
    }
    const auto [above, name] = split(path);
    const auto needed =
        static_cast<std::uint32_t>(div_up<std::uint64_t>(size, geometry_.cluster_bytes()));
    std::vector<std::uint32_t> clusters;
    if (size > 0) clusters = allocate(needed, info.placement, std::string(path));
    const std::size_t index = above->directory.add(to_utf16(name), info, false, size);
    if (size == 0) return;
    above->directory.set_cluster(index, clusters.front());
    if (!content.empty()) write_content(clusters, content);
  }

  void mark_bad(std::uint32_t first, std::uint32_t count) {
    for (std::uint32_t c = first; c < first + count; ++c) {
      if (!geometry_.valid_cluster(c) || fat_[c] != 0) {
        throw Error(ErrorCode::refused, fmt::format("cluster {} is not free", c));
      }
      fat_[c] = fat_bad;
    }
  }

  [[nodiscard]] std::uint32_t free_clusters() const {
    return static_cast<std::uint32_t>(std::count(fat_.begin() + 2, fat_.end(), 0u));
  }

  void finish() {
    for (auto& [path, folder] : folders_) place_folder(folder, path);
    for (auto& [path, folder] : folders_) write_folder(folder);
    write_fats();
    write_boot();
    device_.flush();
  }

 private:
  struct Folder {
    NewDirectory directory;
    Folder* above;
    std::size_t index;  // of its entry in the folder above
    FatFileInfo info;
    std::vector<std::uint32_t> clusters;
  };

  std::pair<Folder*, std::string> split(std::string_view path) {
    const std::size_t slash = path.rfind('/');
    const std::string above(slash == path.npos ? "" : path.substr(0, slash));
    const auto it = folders_.find(above);
    if (it == folders_.end()) {
      throw Error(ErrorCode::words, "the folder does not exist", {{}, {}, {}, above});
    }
    return {&it->second, std::string(slash == path.npos ? path : path.substr(slash + 1))};
  }

  std::vector<std::uint32_t> allocate(std::uint32_t count, Placement placement,
                                      const std::string& path) {
    std::vector<std::uint32_t> out;
    if (placement == Placement::at_end) {
      for (std::uint32_t c = geometry_.last_cluster(); c >= 2 && out.size() < count; --c) {
        if (fat_[c] == 0) out.insert(out.begin(), c);
      }
    } else if (placement == Placement::scattered) {
      for (std::uint32_t c = cursor_; c <= geometry_.last_cluster() && out.size() < count; c += 2) {
        if (fat_[c] == 0) out.push_back(c);
      }
    } else {
      std::uint32_t run = 0;
      for (std::uint32_t c = cursor_; c <= geometry_.last_cluster(); ++c) {
        run = fat_[c] == 0 ? run + 1 : 0;
        if (run < count) continue;
        for (std::uint32_t i = c - count + 1; i <= c; ++i) out.push_back(i);
        cursor_ = c + 1;
        break;
      }
      if (out.empty()) {  // no run holds it: take what there is
        for (std::uint32_t c = 2; c <= geometry_.last_cluster() && out.size() < count; ++c) {
          if (fat_[c] == 0) out.push_back(c);
        }
      }
    }
    if (out.size() < count) {
      throw Error(ErrorCode::refused,
                  fmt::format("the volume is full: {} clusters are needed, {} are free", count,
                              free_clusters()),
                  {{}, {}, {}, path});
    }
    for (std::size_t i = 0; i < out.size(); ++i) {
      fat_[out[i]] = i + 1 < out.size() ? out[i + 1] : fat_end;
    }
    return out;
  }

  void write_content(const std::vector<std::uint32_t>& clusters, ByteView content) {
    const std::size_t bytes = geometry_.cluster_bytes();
    for (std::size_t i = 0; i < clusters.size();) {
      std::size_t run = 1;
      while (i + run < clusters.size() && clusters[i + run] == clusters[i] + run) ++run;
      const ByteView part =
          content.subspan(i * bytes, std::min(run * bytes, content.size() - i * bytes));
      Bytes padded(part.begin(), part.end());
      padded.resize(div_up<std::size_t>(part.size(), geometry_.sector_bytes) *
                    geometry_.sector_bytes);
      device_.write(geometry_.cluster_start(clusters[i]), padded);
      i += run;
    }
  }

  void place_folder(Folder& folder, const std::string& path) {
    if (folder.above == nullptr && geometry_.kind != VolumeKind::fat32) {
      if (folder.directory.entries() > geometry_.root_entries) {
        throw Error(ErrorCode::refused, fmt::format("the root folder holds {} entries at most",
                                                    geometry_.root_entries));
      }
      return;
    }
    const std::size_t bytes = std::max<std::size_t>(folder.directory.entries() * 32, 1);
    folder.clusters =
        allocate(static_cast<std::uint32_t>(div_up<std::size_t>(bytes, geometry_.cluster_bytes())),
                 Placement::together, path);
    if (folder.above == nullptr) geometry_.root_cluster = folder.clusters.front();
  }

  void write_folder(Folder& folder) {
    for (auto& [path, child] : folders_) {
      if (child.above == &folder) folder.directory.set_cluster(child.index, child.clusters.front());
    }
    if (folder.above != nullptr) {
      folder.directory.set_cluster(0, folder.clusters.front());
      const bool under_root = folder.above->above == nullptr;
      folder.directory.set_cluster(1, under_root ? 0 : folder.above->clusters.front());
    }
    Bytes bytes = folder.directory.bytes();
    if (!folder.clusters.empty()) {
      bytes.resize(folder.clusters.size() * geometry_.cluster_bytes());
      write_content(folder.clusters, bytes);
    } else {
      bytes.resize(std::size_t{geometry_.root_sectors} * geometry_.sector_bytes);
      device_.write(geometry_.root_start(), bytes);
    }
  }

  void put_entry(ByteSpan fat, std::uint64_t base, std::uint32_t cluster,
                 std::uint32_t value) const {
    if (geometry_.kind == VolumeKind::fat12) {
      const std::size_t at = cluster + cluster / 2;
      const std::uint32_t v = value & 0xFFF;
      if ((cluster & 1) != 0) {
        fat[at] = static_cast<std::uint8_t>((fat[at] & 0x0F) | (v & 0x0F) << 4);
        fat[at + 1] = static_cast<std::uint8_t>(v >> 4);
      } else {
        fat[at] = static_cast<std::uint8_t>(v);
        fat[at + 1] = static_cast<std::uint8_t>((fat[at + 1] & 0xF0) | v >> 8);
      }
      return;
    }
    const std::size_t width = geometry_.kind == VolumeKind::fat16 ? 2 : 4;
    for (std::size_t i = 0; i < width; ++i) {
      fat[(cluster - base) * width + i] = static_cast<std::uint8_t>(value >> 8 * i);
    }
  }

  // In pieces, leaving out those that stay zero.
  void write_fats() {
    fat_[0] = 0x0FFFFFF8;
    fat_[1] = fat_end;
    const std::size_t width = geometry_.kind == VolumeKind::fat16 ? 2 : 4;
    const bool whole = geometry_.kind == VolumeKind::fat12;
    const std::size_t piece =
        whole ? std::size_t{geometry_.fat_sectors} * geometry_.sector_bytes : std::size_t{1} << 16;
    const std::size_t per_piece = whole ? fat_.size() : piece / width;
    for (std::size_t base = 0; base < fat_.size(); base += per_piece) {
      const std::size_t stop = std::min(fat_.size(), base + per_piece);
      const auto first = fat_.begin() + static_cast<std::ptrdiff_t>(base);
      const auto last = fat_.begin() + static_cast<std::ptrdiff_t>(stop);
      if (std::all_of(first, last, [](std::uint32_t v) { return v == 0; })) continue;
      const std::size_t room = std::size_t{geometry_.fat_sectors} * geometry_.sector_bytes -
                               base * width * (whole ? 0 : 1);
      Bytes bytes(std::min(piece, room));
      for (std::size_t c = base; c < stop; ++c) {
        if (fat_[c] != 0) put_entry(bytes, base, static_cast<std::uint32_t>(c), fat_[c]);
      }
      for (std::uint32_t copy = 0; copy < geometry_.fats; ++copy) {
        device_.write(
            geometry_.fat_start(copy) + base * width * (whole ? 0 : 1) / geometry_.sector_bytes,
            bytes);
      }
    }
  }

  void write_boot() {
    FatGeometry g = geometry_;
    if (!format_.label.empty()) g.label = label_;
    const Bytes sector = fat_boot_sector(g);
    if (g.kind == VolumeKind::fat32) {
      const Bytes info =
          fat_info_sector(g, free_clusters(), std::min(cursor_, geometry_.last_cluster()));
      device_.write(g.fs_info, info);
      device_.write(g.backup_boot, sector);
      device_.write(g.backup_boot + 1, info);
    }
    device_.write(0, sector);
  }

  Device& device_;
  FatFormat format_;
  CodePage page_;
  FatGeometry geometry_;
  std::vector<std::uint32_t> fat_;
  std::array<std::uint8_t, 11> label_{};
  std::map<std::string, Folder> folders_;
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

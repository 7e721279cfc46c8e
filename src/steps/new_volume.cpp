#include "steps/new_volume.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "fat/build.h"
#include "fat/search.h"
#include "ntfs/build.h"
#include "steps/pieces.h"
#include "steps/put_files.h"

namespace nuvrat::steps {
namespace {

ntfs::Format ntfs_format(const NewVolume& work, std::uint32_t sector_bytes) {
  ntfs::Format out;
  out.sector_bytes = sector_bytes;
  out.sectors = work.change.place.count;
  out.cluster_sectors = work.cluster_sectors;
  out.serial = work.change.serial;
  out.hidden_sectors = work.change.place.first;
  out.label = to_utf16(work.label);
  out.made = work.change.made;
  out.free = {{0, work.change.place.count}};
  out.apart = out.free;
  return out;
}

fat::Target fat_target(const NewVolume& work, std::uint32_t sector_bytes) {
  const auto all = std::make_shared<const SectorSet>(
      std::initializer_list<SectorRange>{{0, work.change.place.count}});
  fat::LayoutWish wish;
  wish.kind = work.change.to;
  wish.sector_bytes = sector_bytes;
  wish.sectors = work.change.place.count;
  wish.cluster_sectors = work.cluster_sectors;
  wish.grid_step = work.cluster_sectors;
  wish.min_reserved = fat::usual_reserved(work.change.to);
  wish.root_entries = 512;
  wish.free = all.get();
  const auto places = fat::place_fats(wish, 1);
  if (places.empty()) throw Error(ErrorCode::refused, "no place for the FATs");
  fat::Target out;
  out.geometry = places[0].geometry;
  out.geometry.serial = static_cast<std::uint32_t>(work.change.serial);
  out.geometry.hidden_sectors = static_cast<std::uint32_t>(work.change.place.first);
  out.codepage = work.change.codepage;
  out.free = all;
  return out;
}

FileTree tree_of(const NewVolume& work) {
  FileTree out;
  (void)put_files(work.files, work.change.made, out);
  return out;
}

class Fresh final : public Rewrite {
 public:
  Fresh(const Step& step, const NewVolume& work, const Device& device)
      : step_(step), work_(work), place_(work.change.place), sector_(device.sector_size()) {
    placed_ = put_files(work.files, work.change.made, tree_);
    switch (format_of(work.change.to).value()) {
      case VolumeFormat::fat:
        fat_ = std::make_unique<fat::Plan>(tree_, fat_target(work, sector_));
        boot_ = fat::boot_sector(fat_->geometry());
        break;
      case VolumeFormat::ntfs:
        ntfs_ = std::make_unique<ntfs::Plan>(tree_, ntfs_format(work, sector_));
        boot_ = ntfs::boot_sector(*ntfs_);
        break;
    }
  }

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    const auto write = [&](std::uint64_t sector, ByteView data) {
      sink.write(place_.first + sector, data);
    };
    const auto announce = [&sink](std::string_view what) { sink.purpose(what); };
    if (ntfs_ != nullptr) {
      ntfs::write_volume(
          *ntfs_, [this](std::uint64_t, std::uint64_t count) { return Bytes(count * sector_); },
          write, announce);
      wipe_sectors(sink, {{place_.first + 1, boot_area / sector_ - 1}}, sector_,
                   "the rest of $Boot");
      sink.purpose("NTFS second boot sector");
      sink.write(place_.last(), boot_);
      return;
    }
    fat::write_volume(
        *fat_, {write,
                {},
                [this](FileTree::Id id, ByteSink to) { to(work_.files[placed_.at(id)].contents); },
                announce});
    const fat::Geometry& g = fat_->geometry();
    if (g.reserved_sectors == 1) return;
    const auto free = static_cast<std::uint32_t>(g.clusters - fat_->clusters_in_use());
    sink.purpose("FAT's reserved sectors");
    sink.write(place_.first + 1,
               fat::reserved_area(g, g.reserved_sectors - 1, free, fat_->first_free()));
  }

  [[nodiscard]] SectorWrite switch_sector() const override { return {place_.first, boot_}; }
  [[nodiscard]] std::string switch_purpose() const override {
    return fmt::format("{} boot sector", title_of(work_.change.to));
  }
  void settle(SectorSink& /*sink*/) override {}

 private:
  static constexpr std::uint64_t boot_area = 8192;  // bytes

  Step step_;  // owns the work
  const NewVolume& work_;
  SectorRange place_;
  std::uint32_t sector_;
  FileTree tree_;
  PlacedFiles placed_;
  std::unique_ptr<ntfs::Plan> ntfs_;
  std::unique_ptr<fat::Plan> fat_;
  Bytes boot_;
};

// What systems choose for a volume of this size, so that they are at ease with it.
std::uint64_t usual_cluster_bytes(VolumeKind kind, std::uint64_t bytes) {
  constexpr std::uint64_t mib = 1u << 20;
  switch (kind) {
    case VolumeKind::fat12:
    case VolumeKind::fat16:
      return bytes <= 16 * mib    ? 1024
             : bytes <= 128 * mib ? 2048
             : bytes <= 256 * mib ? 4096
             : bytes <= 512 * mib ? 8192
                                  : 16384;
    case VolumeKind::fat32:
      return bytes <= 260 * mib     ? 512
             : bytes <= 8192 * mib  ? 4096
             : bytes <= 16384 * mib ? 8192
             : bytes <= 32768 * mib ? 16384
                                    : 32768;
    case VolumeKind::ntfs:
    case VolumeKind::unknown:
    case VolumeKind::exfat:
    case VolumeKind::swap:
    case VolumeKind::linux_data:
    case VolumeKind::other:
      break;
  }
  return 4096;
}

// What is known of a new volume once it is laid out; none where it doesn't fit.
struct Counted {
  std::uint64_t needed = 0, free = 0, log_bytes = 0;
  std::uint64_t writes = 0;
};

std::optional<Counted> counted_as_ntfs(const NewVolume& work, const FileTree& tree,
                                       std::uint32_t sector_bytes) {
  const ntfs::Plan plan(tree, ntfs_format(work, sector_bytes));
  if (!plan.fits()) return std::nullopt;
  return Counted{.needed = plan.needed_clusters(),
                 .free = plan.free_clusters(),
                 .log_bytes = plan.log_bytes(),
                 .writes = plan.needed_clusters() * work.cluster_sectors + 8192 / sector_bytes + 1};
}

std::optional<Counted> counted_as_fat(const NewVolume& work, const FileTree& tree,
                                      std::uint32_t sector_bytes) {
  try {
    const fat::Plan plan(tree, fat_target(work, sector_bytes));
    const fat::Geometry& g = plan.geometry();
    if (!plan.fits() || fat::is_near_limit(g.clusters)) return std::nullopt;
    const std::uint64_t in_front = div_up<std::uint64_t>(g.data_start(), g.cluster_sectors);
    return Counted{.needed = plan.clusters_in_use() + in_front,
                   .free = plan.free_clusters() + in_front,
                   .writes = g.data_start() + plan.clusters_in_use() * g.cluster_sectors};
  } catch (const Error& e) {
    if (e.code() != ErrorCode::refused) throw;
    return std::nullopt;
  }
}

std::optional<Counted> counted(const NewVolume& work, const FileTree& tree,
                               std::uint32_t sector_bytes) {
  switch (format_of(work.change.to).value()) {
    case VolumeFormat::fat:
      return counted_as_fat(work, tree, sector_bytes);
    case VolumeFormat::ntfs:
      return counted_as_ntfs(work, tree, sector_bytes);
  }
  return std::nullopt;
}

}  // namespace

std::string NewVolume::name() const {
  return fmt::format("new {} at sector {}", title_of(change.to), change.place.first);
}

std::unique_ptr<Rewrite> NewVolume::make(const Step& step, const Device& device) const {
  return std::make_unique<Fresh>(step, *this, device);
}

bool NewVolume::choose(std::uint32_t sector_bytes) {
  constexpr std::uint64_t largest = 65536;  // bytes
  const std::uint64_t usual = usual_cluster_bytes(change.to, change.place.count * sector_bytes);
  std::vector<std::uint64_t> sizes;
  for (std::uint64_t size = usual; size <= largest; size *= 2) sizes.push_back(size);
  for (std::uint64_t size = usual / 2; size >= sector_bytes; size /= 2) sizes.push_back(size);
  const FileTree tree = tree_of(*this);
  for (const std::uint64_t size : sizes) {
    if (size < sector_bytes) continue;
    cluster_sectors = static_cast<std::uint32_t>(size / sector_bytes);
    change.cluster_bytes = size;
    if (const auto count = counted(*this, tree, sector_bytes)) {
      change.needed_clusters = count->needed;
      change.free_clusters = count->free;
      change.log_bytes = count->log_bytes;
      change.writes = count->writes;
      return true;
    }
  }
  cluster_sectors = 0;
  return false;
}

}  // namespace nuvrat::steps

#include "steps/fat_to_ntfs.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "fat/boot.h"
#include "fat/read.h"
#include "ntfs/boot.h"
#include "ntfs/build.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

constexpr std::uint32_t max_cluster_bytes = 65536;

// NTFS counts clusters from the volume's first sector, FAT from its data area: what divides both
// the data area's start and FAT's clusters can be a cluster of both.
std::uint32_t common_cluster_sectors(const VolumeInfo& info, std::uint32_t sector_bytes) {
  std::uint64_t out = max_cluster_bytes / sector_bytes;
  const std::uint64_t fat = info.cluster_bytes / sector_bytes;
  while (out > 1 && (fat % out != 0 || info.first_cluster % out != 0)) out /= 2;
  return static_cast<std::uint32_t>(out);
}

ntfs::Format format_for(VolumeReader& reader, const VolumeChange& change) {
  const VolumeInfo& info = reader.info();
  ntfs::Format out;
  out.sector_bytes = reader.device().sector_size();
  out.sectors = change.place.count;
  out.cluster_sectors = common_cluster_sectors(info, out.sector_bytes);
  out.serial = change.serial;
  out.hidden_sectors = change.place.first;
  out.label = cut(to_utf16(info.label), 32);
  out.made = change.made;
  out.bad = reader.bad().ranges();
  out.free = reader.owned().gaps({0, change.place.count});
  const PhysicalSector& physical = reader.device().physical();
  for (const SectorRange& r : out.free) out.apart.add(physical.whole_inside(r));
  return out;
}

class ToNtfs final : public Rewrite {
 public:
  ToNtfs(const Step& step, const VolumeChange& change, const Device& device)
      : step_(step), change_(change), device_(device) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    const auto volume = read_volume();
    const ntfs::Plan& plan = volume->plan();
    ntfs::write_volume(
        plan,
        [this](std::uint64_t sector, std::uint64_t count) {
          return device_.read(change_.place.first + sector, count);
        },
        [&](std::uint64_t sector, ByteView data) {
          sink.write(change_.place.first + sector, data);
        },
        [&sink](std::string_view what) { sink.purpose(what); });
    boot_ = ntfs::boot_sector(plan);
  }

  [[nodiscard]] SectorWrite switch_sector() const override {
    // Once the switch is done the sector itself is the only one that knows.
    Bytes now = device_.read(change_.place.first);
    if (ntfs::is_ntfs_boot(now)) return {change_.place.first, std::move(now)};
    if (boot_.empty()) boot_ = ntfs::boot_sector(read_volume()->plan());
    return {change_.place.first, boot_};
  }

  [[nodiscard]] std::string switch_purpose() const override { return "NTFS boot sector"; }

  // What FAT had in the boot area, and the last sector, which may have been a file's: it was
  // copied.
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::settle) return {};
    Exemptions out{{{tidied()}, "the rest of $Boot holds what FAT had there: no system reads it"},
                   {{{change_.place.last(), 1}},
                    "the second boot sector is a copy, and what a file had there was copied"}};
    // A large cluster of $Boot reaches beyond $Boot.
    std::string fault;
    const auto g = ntfs::parse_boot(switch_sector().data, fault);
    const auto copy = FatToNtfs::old_copy(device_, change_.place);
    if (g && copy && (*copy - change_.place.first) * device_.sector_size() < g->cluster_bytes())
      out.push_back({{{*copy, 1}},
                     "the second boot sector of FAT32 is behind $Boot, in its cluster: nothing "
                     "reads it"});
    return out;
  }

  void settle(SectorSink& sink) override {
    wipe_sectors(sink, {tidied()}, device_.sector_size(),
                 "NTFS boot area, wiped of what FAT had there");
    if (const auto copy = FatToNtfs::old_copy(device_, change_.place)) {
      sink.purpose("the second boot sector of FAT32, wiped");
      sink.write(*copy, Bytes(device_.sector_size()));
    }
    sink.purpose("NTFS second boot sector");
    sink.write(change_.place.last(), switch_sector().data);
  }

 private:
  [[nodiscard]] SectorRange tidied() const {
    return {change_.place.first + 1, FatToNtfs::boot_area / device_.sector_size() - 1};
  }

  // All names of the volume and a plan for each: no longer than they are needed.
  [[nodiscard]] std::unique_ptr<FatAsNtfs> read_volume() const {
    auto out = std::make_unique<FatAsNtfs>(device_, change_);
    if (!out->plan().fits())
      throw Error(ErrorCode::guard, "the volume has less room than when it was assessed");
    return out;
  }

  Step step_;  // owns the change
  const VolumeChange& change_;
  const Device& device_;
  mutable Bytes boot_;  // the new boot sector, once it is known
};

}  // namespace

ReadOptions options_of(const VolumeChange& change) {
  ReadOptions out;
  out.zone = change.zone == "UTC" ? Zone() : Zone::named(change.zone);
  out.codepage = change.codepage;
  return out;
}

FatAsNtfs::FatAsNtfs(const Device& device, const VolumeChange& change)
    : window_(device, change.place), reader_(fat::open_reader(window_, options_of(change))) {
  plan_ = std::make_unique<ntfs::Plan>(reader_->tree(), format_for(*reader_, change));
}

std::optional<std::uint64_t> FatToNtfs::old_copy(const Device& device, SectorRange place) {
  constexpr std::uint64_t reserved = 32;  // sectors of FAT at its front
  const std::uint64_t end = std::min(place.first + reserved, place.last());
  for (std::uint64_t lba = place.first + boot_area / device.sector_size(); lba < end; ++lba) {
    std::string fault;
    const auto geometry = fat::parse_boot(device.read(lba), fault);
    if (!geometry || geometry->kind != VolumeKind::fat32) continue;
    const std::uint64_t bytes = std::uint64_t{geometry->backup_boot} * geometry->sector_bytes;
    if (place.first + bytes / device.sector_size() == lba) return lba;
  }
  return std::nullopt;
}

std::string FatToNtfs::name() const {
  const std::string where = change.number == 0 ? "" : fmt::format("p{} ", change.number);
  return fmt::format("{}from {} to NTFS", where, title_of(change.from));
}

std::unique_ptr<Rewrite> FatToNtfs::make(const Step& step, const Device& device) const {
  return std::make_unique<ToNtfs>(step, change, device);
}

}  // namespace nuvrat::steps

#include "steps/to_fat.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/table.h>
#include <nuvrat/text.h>

#include "fat/build.h"
#include "fat/names.h"
#include "steps/fat_to_ntfs.h"

namespace nuvrat::steps {
namespace {

constexpr std::uint64_t ntfs_boot_bytes = 8192;

class IntoFat final : public Rewrite {
 public:
  IntoFat(const Step& step, const ToFat& work, const Device& device)
      : step_(step), work_(work), change_(work.change), device_(device) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    VolumeAsFat volume(device_, change_, work_.files);
    const fat::Plan plan = volume.plan(work_);
    if (!plan.fits() || plan.geometry().root_cluster != work_.root_cluster)
      throw Error(ErrorCode::guard, "the volume has less room than when it was assessed");
    const std::uint64_t start = place().first;
    const std::uint64_t old = change_.place.first;
    fat::write_volume(
        plan, {[&](std::uint64_t sector, ByteView data) { sink.write(start + sector, data); },
               [&](std::uint64_t sector, ByteSpan out) { device_.read_once(old + sector, out); },
               [&](FileTree::Id id, ByteSink to) { volume.read_contents(id, to); },
               [&](std::string_view what) { sink.purpose(what); }});
  }

  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{place().first, fat::boot_sector(work_.geometry(device_.sector_size()))};
    if (work_.start_code.empty()) return out;
    // The jump, and what follows the parameters.
    const std::size_t code_at = fat::start_code_at(change_.to);
    const auto old = work_.start_code.begin();
    std::copy_n(old, 3, out.data.begin());
    std::copy(old + static_cast<std::ptrdiff_t>(code_at), old + 510,
              out.data.begin() + static_cast<std::ptrdiff_t>(code_at));
    return out;
  }

  [[nodiscard]] std::string switch_purpose() const override {
    return fmt::format("{} boot sector", title_of(change_.to));
  }

  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::settle || tidied().count == 0) return {};
    return {{{tidied()}, "reserved sectors besides the first: hints and a copy"}};
  }

  void settle(SectorSink& sink) override {
    const fat::Geometry g = work_.geometry(device_.sector_size());
    const SectorRange range = tidied();
    if (range.count > 0) {
      sink.purpose("FAT's reserved sectors");
      Bytes sectors = fat::reserved_area(g, range.count, work_.free_after, work_.next_free);
      keep_code(g, sectors);
      sink.write(range.first, sectors);
    }
    if (work_.old_copy != 0) {
      sink.purpose("the second boot sector of NTFS, wiped");
      sink.write(place().first + work_.old_copy, Bytes(g.sector_bytes));
    }
  }

 private:
  // What is neither FSInfo nor a copy stays; the copy of the first sector is one of this one.
  void keep_code(const fat::Geometry& g, Bytes& sectors) const {
    const std::uint64_t size = device_.sector_size();
    const Bytes first = switch_sector().data;
    for (std::uint64_t i = 1; i * size < work_.start_code.size() && i * size <= sectors.size();
         ++i) {
      const bool ours = i == g.fs_info || i == g.backup_boot + 1;
      const auto from = i == g.backup_boot
                            ? first.begin()
                            : work_.start_code.begin() + static_cast<std::ptrdiff_t>(i * size);
      if (!ours)
        std::copy_n(from, size, sectors.begin() + static_cast<std::ptrdiff_t>((i - 1) * size));
    }
  }
  [[nodiscard]] SectorRange place() const { return change_.new_place(); }
  // Reserved sectors after the first, as far as either format keeps anything there.
  [[nodiscard]] SectorRange tidied() const {
    constexpr std::uint64_t of_fat32 = 9;  // boot sector, FSInfo, and a copy of both from 6 on
    const std::uint64_t end = std::min<std::uint64_t>(
        work_.reserved_sectors,
        std::max<std::uint64_t>(ntfs_boot_bytes / device_.sector_size(), of_fat32));
    return {place().first + 1, end - 1};
  }

  Step step_;  // owns the work
  const ToFat& work_;
  const VolumeChange& change_;
  const Device& device_;
};

}  // namespace

std::string ToFat::name() const {
  const std::string where = change.number == 0 ? "" : fmt::format("p{} ", change.number);
  if (change.from == change.to && change.front != 0)
    return fmt::format("{}{} grown to the front", where, title_of(change.to));
  if (change.from == change.to && sectors != 0)
    return fmt::format("{}{} with {} sectors", where, title_of(change.to), sectors);
  if (!files.empty()) return fmt::format("{}{}, new files", where, title_of(change.to));
  if (change.from == change.to)
    return fmt::format("{}{} laid out anew", where, title_of(change.to));
  return fmt::format("{}from {} to {}", where, title_of(change.from), title_of(change.to));
}

std::string ToFat::touches() const {
  return "free sectors; after the switch the reserved sectors" +
         std::string(change.from == VolumeKind::ntfs ? " and the last sector" : "");
}

std::unique_ptr<Rewrite> ToFat::make(const Step& step, const Device& device) const {
  return std::make_unique<IntoFat>(step, *this, device);
}

void ToFat::take(const fat::Geometry& g) {
  cluster_sectors = g.cluster_sectors;
  reserved_sectors = g.reserved_sectors;
  fat_sectors = g.fat_sectors;
  root_entries = g.root_entries;
  root_cluster = g.root_cluster;
}

fat::Geometry ToFat::geometry(std::uint32_t sector_bytes) const {
  fat::Geometry g;
  g.kind = change.to;
  g.sector_bytes = sector_bytes;
  g.cluster_sectors = cluster_sectors;
  g.reserved_sectors = reserved_sectors;
  g.fat_sectors = fat_sectors;
  g.root_entries = root_entries;
  g.root_sectors = div_up<std::uint32_t>(root_entries * 32, sector_bytes);
  g.total_sectors = std::min<std::uint64_t>(sectors_of_volume(), 0xFFFFFFFF);
  if (cluster_sectors > 0)  // it is chosen
    g.clusters = static_cast<std::uint32_t>((g.total_sectors - g.data_start()) / cluster_sectors);
  if (g.kind == VolumeKind::fat32) {
    g.fs_info = 1;
    g.backup_boot = 6;
    g.root_cluster = root_cluster;
  }
  g.serial = static_cast<std::uint32_t>(change.serial);
  g.hidden_sectors = static_cast<std::uint32_t>(change.new_place().first);
  g.label = fat::label_bytes(label, CodePage(change.codepage));
  return g;
}

VolumeAsFat::VolumeAsFat(const Device& device, const VolumeChange& change,
                         const std::vector<tree::PutFile>& files)
    : change_(change), window_(device, change.place), files_(files) {
  reader_ = open_volume(window_, options_of(change));
  if (reader_ == nullptr || reader_->info().kind != change.from)
    throw Error(ErrorCode::guard,
                fmt::format("the volume is not {} any more", title_of(change.from)));
  const SectorRange place = change.new_place();
  SectorSet owned = moved_on(reader_->owned());
  if (change.front > 0) {
    SectorSet table = read_table(device).owned;  // an EBR may lie there
    while (const auto hit = table.first_overlap({place.first, change.front})) {
      owned.add({hit->first - place.first, hit->count});
      table.remove(*hit);
    }
  }
  free_ = std::make_shared<const SectorSet>(owned.gaps({0, place.count}));
  if (files.empty()) return;
  changed_ = reader_->tree();
  placed_ = put_files(files, change.made, *changed_);
}

void VolumeAsFat::read_contents(FileTree::Id id, ByteSink to) {
  const auto placed = placed_.find(id);
  placed == placed_.end() ? reader_->read_contents(id, to) : to(files_[placed->second].contents);
}

SectorSet VolumeAsFat::moved_on(const SectorSet& sectors) const {
  SectorSet out;
  for (const SectorRange& r : sectors) out.add({r.first + change_.front, r.count});
  return out;
}

fat::Target VolumeAsFat::target(const ToFat& step) {
  fat::Target out;
  out.geometry = step.geometry(window_.sector_size());
  out.codepage = change_.codepage;
  out.zone = options_of(change_).zone;
  out.free = free_;
  out.bad = moved_on(reader_->bad());
  out.front = change_.front;
  if (step.rename) out.names = fat::safe_names(tree());
  return out;
}

}  // namespace nuvrat::steps

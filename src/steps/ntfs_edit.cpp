#include "steps/ntfs_edit.h"

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "base/record.h"
#include "ntfs/records.h"
#include "ntfs/snapshots.h"
#include "ntfs/volume.h"

namespace nuvrat::steps {
namespace {

class Shadowed final : public Rewrite {
 public:
  Shadowed(const Step& step, const EditNtfs& work, const Device& device)
      : step_(step), work_(work), device_(device), window_(device, work.change.place) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    const auto tried = work_.edit(window_);
    const auto* edit = std::get_if<ntfs::Edit>(&tried);
    if (edit == nullptr || edit->mft_lcn() != work_.mft_lcn ||
        edit->mirror_lcn() != work_.mirror_lcn)
      throw Error(ErrorCode::guard, "the volume has less room than when it was assessed");
    edit->write(
        {[&](std::uint64_t sector, ByteView data) { sink.write(place().first + sector, data); },
         [&](std::string_view what) { sink.purpose(what); }});
  }

  // The same before and after: only where $MFT and its mirror are is another, and where it ends or
  // begins.
  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{place().first, boot_sector()};
    auto boot = base::load<ntfs::Boot>(out.data);
    boot.mft_lcn = work_.mft_lcn;
    boot.mirror_lcn = work_.mirror_lcn;
    if (work_.sectors != 0) boot.total_sectors = work_.sectors / ratio() - 1;
    if (work_.change.front != 0) boot.hidden_sectors = static_cast<std::uint32_t>(place().first);
    base::store(boot, out.data);
    return out;
  }

  [[nodiscard]] std::string switch_purpose() const override { return "NTFS boot sector"; }

  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::settle) return {};
    Exemptions out;
    if (place().contains(copy_at()))
      out.push_back({{{copy_at(), 1}}, "the second boot sector is a copy: the first one counts"});
    if (work_.ends_snapshots)
      out.push_back({{{snapshots_at(), 1}}, "the header of restore points, which are lost"});
    return out;
  }

  void settle(SectorSink& sink) override {
    // A volume that fills its partition to the last sector has none.
    if (place().contains(copy_at())) {
      sink.purpose("NTFS second boot sector");
      sink.write(copy_at(), switch_sector().data);
    }
    if (work_.ends_snapshots) {
      sink.purpose("the header of restore points, taken away");
      Bytes sector = device_.read(snapshots_at());
      ntfs::end_snapshots(sector, snapshots_at() - place().first, device_.sector_size());
      sink.write(snapshots_at(), sector);
    }
    if (work_.old_copy == 0 || work_.old_copy >= place().count) return;
    sink.purpose("the second boot sector of the old size, wiped");
    sink.write(place().first + work_.old_copy, Bytes(window_.sector_size()));
  }

 private:
  [[nodiscard]] SectorRange place() const { return work_.change.new_place(); }
  // Of the volume as it is, wherever that is by now.
  [[nodiscard]] Bytes boot_sector() const {
    Bytes out = window_.read(0);
    return work_.change.front == 0 || ntfs::is_ntfs_boot(out) ? out : device_.read(place().first);
  }
  // Sectors of the device in one of the volume.
  [[nodiscard]] std::uint64_t ratio() const {
    const auto boot = base::load<ntfs::Boot>(boot_sector());
    return std::max<std::uint64_t>(1, boot.bytes_per_sector.value() / window_.sector_size());
  }
  [[nodiscard]] std::uint64_t snapshots_at() const {
    return place().first + ntfs::snapshot_sector(device_.sector_size());
  }
  // Behind the volume's last sector.
  [[nodiscard]] std::uint64_t copy_at() const {
    const auto boot = base::load<ntfs::Boot>(switch_sector().data);
    return place().first + boot.total_sectors.value() * ratio();
  }

  Step step_;  // owns the work
  const EditNtfs& work_;
  const Device& device_;
  Window window_;
};

}  // namespace

std::string EditNtfs::name() const {
  const std::string where = change.number == 0 ? "" : fmt::format("p{} ", change.number);
  if (change.front != 0) return where + "NTFS grown to the front";
  if (sectors != 0) return where + (old_copy < sectors ? "NTFS grown" : "NTFS shrunk");
  if (!files.empty()) return where + "NTFS, new files";
  return where + (relabels ? "NTFS label" : "way made in NTFS");
}

std::unique_ptr<Rewrite> EditNtfs::make(const Step& step, const Device& device) const {
  return std::make_unique<Shadowed>(step, *this, device);
}

std::variant<ntfs::Edit, ntfs::EditTrouble> EditNtfs::edit(const Device& volume) const {
  const ntfs::Geometry g = ntfs::Volume(volume).geometry();
  const std::uint64_t spc = g.cluster_bytes() / volume.sector_size();
  const auto clusters = [spc](const SectorRange& r) {
    const std::uint64_t first = r.first / spc;
    return tree::Run{first, div_up(r.end(), spc) - first};
  };
  ntfs::EditRequest request;
  request.front = change.front / spc;
  for (const SectorRange& r : vacate) request.vacate.push_back(clusters(r));
  for (const SectorRange& r : avoid) request.avoid.push_back(clusters(r));
  if (sectors != 0 && change.front == 0) {
    const std::uint64_t boot_sector =
        std::max<std::uint64_t>(1, g.sector_bytes / volume.sector_size());
    request.clusters = (sectors / boot_sector - 1) / g.cluster_sectors;
    request.avoid.push_back(clusters({old_copy, 1}));
  }
  if (relabels) request.label = to_utf16(label);
  request.files = files;
  request.made = change.made;
  return ntfs::lay_out(volume, std::move(request));
}

void EditNtfs::take(const ntfs::Edit& edit, std::uint32_t sector_bytes) {
  mft_lcn = edit.mft_lcn();
  mirror_lcn = edit.mirror_lcn();
  change.cluster_bytes = edit.geometry().cluster_bytes();
  change.needed_clusters = edit.written_clusters();
  change.free_clusters = edit.free_clusters();
  change.moved_clusters = edit.moved_clusters();
  change.writes = edit.written_clusters() * (change.cluster_bytes / sector_bytes) +
                  (sectors == 0 ? 2 : 3) + (ends_snapshots ? 1 : 0);
}

}  // namespace nuvrat::steps

#include "steps/ntfs_edit.h"

#include <fmt/format.h>

#include <nuvrat/error.h>

#include "base/record.h"

namespace nuvrat::steps {
namespace {

class Shadowed final : public Rewrite {
 public:
  Shadowed(const Step& step, const NtfsMakeWay& work, const Device& device)
      : step_(step), work_(work), window_(device, work.change.place) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    std::optional<EditTrouble> trouble;
    const auto edit = work_.edit(window_, trouble);
    if (trouble || edit->mft_lcn() != work_.mft_lcn || edit->mirror_lcn() != work_.mirror_lcn)
      throw Error(ErrorCode::guard, "the volume has less room than when it was assessed");
    edit->write({[&](std::uint64_t sector, ByteView data) {
                   sink.write(work_.change.place.first + sector, data);
                 },
                 [&](std::string_view what) { sink.purpose(what); }});
  }

  // The same before and after: only where $MFT and its mirror are is another.
  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{work_.change.place.first, window_.read(0)};
    auto boot = load<NtfsBoot>(out.data);
    boot.mft_lcn = work_.mft_lcn;
    boot.mirror_lcn = work_.mirror_lcn;
    store(boot, out.data);
    return out;
  }

  [[nodiscard]] std::string switch_purpose() const override { return "NTFS boot sector"; }

  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::settle) return {};
    return {{{{copy_at(), 1}}, "the second boot sector is a copy: the first one counts"}};
  }

  void settle(SectorSink& sink) override {
    sink.purpose("NTFS second boot sector");
    sink.write(copy_at(), switch_sector().data);
  }

 private:
  // Behind the volume's last sector; its length is in the boot sector, which keeps it.
  [[nodiscard]] std::uint64_t copy_at() const {
    const auto boot = load<NtfsBoot>(window_.read(0));
    const std::uint64_t ratio = boot.bytes_per_sector.value() / window_.sector_size();
    return work_.change.place.first +
           boot.total_sectors.value() * std::max<std::uint64_t>(1, ratio);
  }

  Step step_;  // owns the work
  const NtfsMakeWay& work_;
  Window window_;
};

}  // namespace

std::string NtfsMakeWay::name() const {
  const std::string where = change.number == 0 ? "" : fmt::format("p{} ", change.number);
  return where + "way made in NTFS";
}

std::unique_ptr<Rewrite> NtfsMakeWay::make(const Step& step, const Device& device) const {
  return std::make_unique<Shadowed>(step, *this, device);
}

std::unique_ptr<NtfsEdit> NtfsMakeWay::edit(const Device& volume,
                                            std::optional<EditTrouble>& trouble) const {
  auto out = std::make_unique<NtfsEdit>(volume);
  const std::uint64_t spc = out->geometry().cluster_bytes() / volume.sector_size();
  const auto clusters = [spc](const SectorRange& r) {
    const std::uint64_t first = r.first / spc;
    return Run{first, div_up(r.end(), spc) - first};
  };
  for (const SectorRange& r : vacate) out->vacate(clusters(r));
  for (const SectorRange& r : avoid) out->avoid(clusters(r));
  trouble = out->lay_out();
  return out;
}

}  // namespace nuvrat::steps

#include "steps/copy_mend.h"

#include <nuvrat/rewrite.h>

#include "ntfs/boot.h"
#include "ntfs/mirror.h"

namespace nuvrat::steps {
namespace {

class OtherCopy final : public Rewrite {
 public:
  OtherCopy(const Step& step, const CopyMend& work, const Device& device)
      : step_(step), work_(work), device_(device) {}
  [[nodiscard]] std::string name() const override { return work_.name(); }
  void prepare(SectorSink& sink) override {
    if (!work_.before.empty()) sink.purpose(work_.title);
    for (const SectorWrite& w : work_.before) sink.write(w.lba, w.data);
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return work_.last; }
  [[nodiscard]] std::string switch_purpose() const override { return work_.title; }
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    if (phase != Phase::prepare || work_.before.empty()) return {};
    const SectorRange place = work_.change.place;
    std::string fault;
    const auto geometry = ntfs::parse_boot(device_.read(place.first), fault);
    if (!geometry) return {};
    Exemption out{{}, "a record that is damaged, or a copy of one that is not: the other is read"};
    for (const SectorRange& r : ntfs::mirrored_sectors(*geometry, device_.sector_size()))
      out.sectors.add({place.first + r.first, r.count});
    return {out};
  }
  void settle(SectorSink& /*sink*/) override {}

 private:
  Step step_;  // owns the work
  const CopyMend& work_;
  const Device& device_;
};

}  // namespace

std::unique_ptr<Rewrite> CopyMend::make(const Step& step, const Device& device) const {
  return std::make_unique<OtherCopy>(step, *this, device);
}

}  // namespace nuvrat::steps

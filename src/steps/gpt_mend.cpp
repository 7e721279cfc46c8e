#include "steps/gpt_mend.h"

#include <nuvrat/rewrite.h>

#include "steps/kinds.h"
#include "steps/one_sector.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

Bytes protective_mbr(const GptMend& work, const Layout& layout) {
  Bytes out = build_protective_mbr(layout.disk_sectors, layout.sector_size);
  keep_boot_code(work.sector0, out);
  return out;
}

class Mend final : public Rewrite {
 public:
  explicit Mend(const Step& step)
      : step_(step), work_(std::get<GptMend>(step.work().kind)), gpt_(build_gpt(step.target())) {
    gpt_.protective_mbr = protective_mbr(work_, step.target());
  }
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    if (work_.primary) {
      write_entries(sink, gpt_);
    } else {
      write_backup(sink, gpt_);
    }
  }
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    Exemptions out{{{{0, 1}}, "the protective MBR says nothing that the GPT doesn't"}};
    // While the primary is bad the backup is the only one.
    if (!work_.primary || phase == Phase::settle)
      out.push_back(backup_exemption(gpt_, step_.target().sector_size));
    return out;
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override { return "GPT header"; }
  void settle(SectorSink& sink) override {
    if (work_.primary) write_backup(sink, gpt_);
    sink.purpose("protective MBR");
    sink.write(0, gpt_.protective_mbr);
  }

 private:
  Step step_;
  const GptMend& work_;
  GptBytes gpt_;
};

}  // namespace

std::unique_ptr<Rewrite> GptMend::make(const Step& step, const Device& /*device*/) const {
  if (primary || backup) return std::make_unique<Mend>(step);
  // Both copies are good, and stay what they are to the byte: others have other forms.
  return make_one_sector(step.name(), "protective MBR", {0, protective_mbr(*this, step.target())},
                         {});
}

}  // namespace nuvrat::steps

#include "steps/gpt_home.h"

#include <nuvrat/rewrite.h>

#include "steps/kinds.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

class Home final : public Rewrite {
 public:
  Home(const Step& step, std::vector<SectorRange> wipes)
      : step_(step), wipes_(std::move(wipes)), gpt_(build_gpt(step.target())) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_);
    write_backup(sink, gpt_);
  }
  [[nodiscard]] Exemptions exemptions(Phase /*phase*/) const override {
    return {backup_exemption(gpt_, step_.target().sector_size)};
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override {
    return "GPT header, pointing at LBA 2 again";
  }
  void settle(SectorSink& sink) override {
    wipe_sectors(sink, wipes_, step_.target().sector_size, "second array, wiped");
  }

 private:
  Step step_;
  std::vector<SectorRange> wipes_;
  GptBytes gpt_;
};

}  // namespace

std::unique_ptr<Rewrite> GptHome::make(const Step& step, const Device& /*device*/) const {
  return std::make_unique<Home>(step, wipes);
}

std::optional<UnfinishedStep> GptHome::seen_on(const Device& device, const TableReading& table) {
  if (find_code(table.findings, Rule::gpt_change_unfinished) == nullptr) return std::nullopt;
  const std::uint64_t array = gpt_array_sectors(device.sector_size());
  GptHome work;
  for (const SectorRange& r : table.owned) {
    for (std::uint64_t lba = r.first; lba < r.end() && lba + array <= r.end(); ++lba) {
      if (lba > 1 + array) work.wipes = {{lba, array}};
      if (!work.wipes.empty()) break;
    }
  }
  Layout target = table.layout;
  target.first_usable = gpt_first_usable(device.sector_size());
  target.last_usable = device.sectors() - array - 2;
  return UnfinishedStep{Step(std::move(target), {std::move(work)}), true,
                        "The change is in effect; the entries of its GPT are in a second array "
                        "still."};
}

}  // namespace nuvrat::steps

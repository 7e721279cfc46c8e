#include "steps/table_gpt.h"

#include <nuvrat/rewrite.h>

#include "steps/kinds.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

class MbrToGpt final : public Rewrite {
 public:
  explicit MbrToGpt(const Step& step)
      : step_(step),
        wipes_(std::get<TableGpt>(step.work().kind).wipes),
        gpt_(build_gpt(step.target())) {
    keep_boot_code(std::get<TableGpt>(step.work().kind).sector0, gpt_.protective_mbr);
  }
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_);
    write_backup(sink, gpt_);
    sink.purpose("header of the GPT");
    sink.write(gpt_.header.lba, gpt_.header.data);
  }
  [[nodiscard]] std::string switch_purpose() const override { return "protective MBR"; }
  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{0, gpt_.protective_mbr};
    set_settle_mark(out.data, true);
    return out;
  }
  void settle(SectorSink& sink) override {
    wipe_sectors(sink, wipes_, step_.target().sector_size, "old EBRs, wiped");
    sink.purpose("protective MBR, without the mark of an unfinished settle");
    sink.write(0, gpt_.protective_mbr);
  }

 private:
  Step step_;
  std::vector<SectorRange> wipes_;
  GptBytes gpt_;
};

}  // namespace

std::unique_ptr<Rewrite> TableGpt::make(const Step& step, const Device& /*device*/) const {
  return std::make_unique<MbrToGpt>(step);
}

std::optional<UnfinishedStep> TableGpt::seen_on(const Device& device, const TableReading& table) {
  if (!table.settle_unfinished || table.layout.kind != TableKind::gpt) return std::nullopt;
  std::vector<SectorRange> remains = table::old_ebrs(device, table).ranges();
  std::string left = remains_words(remains);
  return UnfinishedStep{Step(table.layout, {TableGpt{std::move(remains), table.sector0}}), false,
                        std::move(left)};
}

}  // namespace nuvrat::steps

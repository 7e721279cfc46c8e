#include "steps/table_mbr.h"

#include <algorithm>

#include <nuvrat/rewrite.h>

#include "steps/kinds.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

class ToMbr final : public Rewrite {
 public:
  explicit ToMbr(const Step& step)
      : step_(step),
        work_(std::get<TableMbr>(step.work().kind)),
        mbr_(build_mbr(step.target(), work_.sector0)),
        chain_(work_.new_chain ? build_ebrs(step.target()) : std::vector<SectorWrite>()) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    if (!chain_.empty()) sink.purpose("new chain of EBRs");
    for (const SectorWrite& w : chain_) sink.write(w.lba, w.data);
  }
  [[nodiscard]] SectorWrite switch_sector() const override {
    SectorWrite out{0, mbr_};
    if (!work_.wipes.empty()) set_settle_mark(out.data, true);
    return out;
  }
  [[nodiscard]] std::string switch_purpose() const override { return "MBR"; }
  // A partition that reaches the disk's end from now on: its volume hasn't grown yet.
  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    const SectorRange last{step_.target().disk_sectors - 1, 1};
    const auto wiped = [&last](const SectorRange& r) { return r == last; };
    if (phase != Phase::settle || std::none_of(work_.wipes.begin(), work_.wipes.end(), wiped))
      return {};
    return {{{last}, "the header of the old GPT, which the new table's last partition covers"}};
  }
  void settle(SectorSink& sink) override {
    if (work_.wipes.empty()) return;
    wipe_sectors(sink, work_.wipes, step_.target().sector_size, "old GPT or EBRs, wiped");
    sink.purpose("MBR, without the mark of an unfinished settle");
    sink.write(0, mbr_);
  }

 private:
  Step step_;
  const TableMbr& work_;
  Bytes mbr_;
  std::vector<SectorWrite> chain_;  // none where it stays
};

}  // namespace

std::unique_ptr<Rewrite> TableMbr::make(const Step& step, const Device& /*device*/) const {
  return std::make_unique<ToMbr>(step);
}

std::optional<UnfinishedStep> TableMbr::seen_on(const Device& device, const TableReading& table) {
  if (!table.settle_unfinished || table.layout.kind == TableKind::gpt) return std::nullopt;
  SectorSet wipes = table::old_ebrs(device, table);
  wipes.add(table::old_gpt(device, table));
  if (wipes.empty()) wipes.add({0, 1});  // nothing but the mark itself is left
  return UnfinishedStep{Step(table.layout, {TableMbr{wipes.ranges(), table.sector0, false}}), false,
                        remains_words(wipes.ranges())};
}

}  // namespace nuvrat::steps

#include "steps/to_front.h"

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/rewrite.h>

#include "steps/kinds.h"

namespace nuvrat::steps {
namespace {

class Fronted final : public Rewrite {
 public:
  Fronted(const Step& step, const ToFront& work, const Device& device)
      : step_(step),
        work_(work),
        volume_(make_rewrite(
            work.ntfs ? Step(step.target(), {*work.ntfs}) : Step(step.target(), {*work.fat}),
            device)),
        table_(make_rewrite(
            work.mbr ? Step(step.target(), {*work.mbr}) : Step(step.target(), {*work.gpt}),
            device)) {}

  [[nodiscard]] std::string name() const override { return step_.name(); }

  void prepare(SectorSink& sink) override {
    volume_->prepare(sink);
    sink.purpose(volume_->switch_purpose());
    const SectorWrite first = volume_->switch_sector();
    sink.write(first.lba, first.data);
    table_->prepare(sink);
  }

  [[nodiscard]] SectorWrite switch_sector() const override { return table_->switch_sector(); }
  [[nodiscard]] std::string switch_purpose() const override { return table_->switch_purpose(); }

  [[nodiscard]] Exemptions exemptions(Phase phase) const override {
    Exemptions out = volume_->exemptions(phase);
    for (Exemption& e : table_->exemptions(phase)) out.push_back(std::move(e));
    const bool reserved = work_.fat && work_.fat->change.front < work_.fat->reserved_sectors;
    if (phase == Phase::settle && reserved)
      out.push_back({{{work_.fat->change.place.first, 1}},
                     "the old boot sector, now one of the reserved sectors that hold nothing"});
    return out;
  }

  void settle(SectorSink& sink) override {
    volume_->settle(sink);
    const VolumeChange& change = *step_.volume();
    sink.purpose("the boot sector where the volume began, wiped");
    sink.write(change.place.first, Bytes(step_.target().sector_size));
    table_->settle(sink);
  }

 private:
  Step step_;  // owns the work
  const ToFront& work_;
  std::unique_ptr<Rewrite> volume_, table_;
};

}  // namespace

std::string ToFront::name() const {
  return (ntfs ? ntfs->name() : fat->name()) + ", in the table too";
}

std::unique_ptr<Rewrite> ToFront::make(const Step& step, const Device& device) const {
  if (ntfs.has_value() == fat.has_value() || mbr.has_value() == gpt.has_value())
    throw Error(ErrorCode::guard, "a step to the front is about one volume and one table");
  return std::make_unique<Fronted>(step, *this, device);
}

}  // namespace nuvrat::steps

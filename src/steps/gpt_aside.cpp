#include "steps/gpt_aside.h"

#include <nuvrat/rewrite.h>

#include "steps/kinds.h"
#include "steps/pieces.h"

namespace nuvrat::steps {
namespace {

class Aside final : public Rewrite {
 public:
  Aside(const Step& step, std::uint64_t lba) : step_(step), gpt_(build_gpt(step.target(), lba)) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    write_entries(sink, gpt_, "changed entries, in a second array");
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return gpt_.header; }
  [[nodiscard]] std::string switch_purpose() const override {
    return "GPT header, pointing at the second array";
  }
  void settle(SectorSink& /*sink*/) override {}

 private:
  Step step_;
  GptBytes gpt_;
};

}  // namespace

std::unique_ptr<Rewrite> GptAside::make(const Step& step, const Device& /*device*/) const {
  return std::make_unique<Aside>(step, lba);
}

}  // namespace nuvrat::steps

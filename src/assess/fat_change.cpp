// Sectors of a FAT volume written in place: what a mend or a move of clusters comes to.

#include <algorithm>

#include "assess/rewrites.h"

namespace nuvrat {
namespace {

class FatChange final : public Rewrite {
 public:
  FatChange(const Step& step, Device& device) : step_(step), device_(device) {}
  [[nodiscard]] std::string name() const override { return step_.name(); }
  void prepare(SectorSink& sink) override {
    sink.purpose("clusters of files, moved");
    constexpr std::uint64_t piece = 2048;
    for (const SectorMove& m : step_.moves) {
      for (std::uint64_t at = 0; at < m.from.count; at += piece) {
        const std::uint64_t count = std::min(piece, m.from.count - at);
        sink.write(m.to + at, device_.read(m.from.first + at, count));
      }
    }
    sink.purpose(purpose());
    for (const SectorWrite& w : step_.before) sink.write(w.lba, w.data);
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return {step_.lba, step_.sector}; }
  [[nodiscard]] std::string switch_purpose() const override { return purpose(); }
  // Each of these is right by itself: it may be written over in place.
  [[nodiscard]] SectorSet copies(Phase phase) const override {
    SectorSet out;
    for (const SectorWrite& w : phase == Phase::prepare ? step_.before : step_.behind)
      out.add({w.lba, 1});
    if (phase == Phase::prepare && begun()) {
      for (const SectorMove& m : step_.moves) out.add({m.to, m.from.count});
    }
    return out;
  }
  void settle(SectorSink& sink) override {
    sink.purpose(purpose());
    for (const SectorWrite& w : step_.behind) sink.write(w.lba, w.data);
  }

 private:
  // Prepared before, and cut off: the new chain's entries claim the clusters that it is copied to,
  // and nothing else does.
  [[nodiscard]] bool begun() const {
    return std::any_of(step_.before.begin(), step_.before.end(),
                       [this](const SectorWrite& w) { return device_.read(w.lba) == w.data; });
  }
  [[nodiscard]] std::string purpose() const { return "FAT volume: " + step_.title; }

  Step step_;
  Device& device_;
};

}  // namespace

std::unique_ptr<Rewrite> make_fat_change(const Step& step, Device& device) {
  return std::make_unique<FatChange>(step, device);
}

}  // namespace nuvrat

#include "support.h"

using namespace nuvrat;
using support::code_of;

#include <nuvrat/rewrite.h>

namespace {

// A rewrite that does what it is told.
class Scripted final : public Rewrite {
 public:
  std::vector<SectorWrite> prepared, settled;
  SectorWrite change{0, Bytes(512, 0xC1)};
  int prepare_calls = 0;

  [[nodiscard]] std::string name() const override { return "scripted"; }
  void prepare(SectorSink& sink) override {
    ++prepare_calls;
    sink.purpose("new");
    for (const SectorWrite& w : prepared) sink.write(w.lba, w.data);
  }
  [[nodiscard]] SectorWrite switch_sector() const override { return change; }
  [[nodiscard]] std::string switch_purpose() const override { return "the one sector"; }
  void settle(SectorSink& sink) override {
    sink.purpose("old");
    for (const SectorWrite& w : settled) sink.write(w.lba, w.data);
  }
};

SectorSet sector_zero_and_fifty(const Device&) {
  return {{0, 1}, {50, 10}};
}

}  // namespace

TEST_CASE("rewrite: the guard stops a planner that is wrong, and the disk is untouched") {
  MemoryDevice device(100, 512);
  const auto before = device.clone();
  Scripted rewrite;
  SUBCASE("prepare over a live sector") {
    rewrite.prepared = {{55, Bytes(512)}};
  }
  SUBCASE("prepare that touches one at its edge") {
    rewrite.prepared = {{48, Bytes(3 * 512)}};
  }
  SUBCASE("prepare over sector 0") {
    rewrite.prepared = {{0, Bytes(512)}};
  }
  SUBCASE("settle over a live sector") {
    rewrite.settled = {{59, Bytes(512)}};
  }
  SUBCASE("a switch of two sectors") {
    rewrite.change.data.resize(1024);
  }
  Overlay overlay(device);
  CHECK(code_of([&] { (void)Engine::inspect(rewrite, overlay, sector_zero_and_fifty); }) ==
        ErrorCode::guard);
  CHECK(device.same_as(*before));
}

TEST_CASE("rewrite: what the inspection did not see is not written") {
  MemoryDevice device(100, 512);
  QuietProgress quiet;
  Scripted rewrite;
  rewrite.prepared = {{10, Bytes(512, 1)}};
  Overlay overlay(device);
  const Inspection inspection = Engine::inspect(rewrite, overlay, sector_zero_and_fifty);
  rewrite.prepared = {{11, Bytes(512, 1)}};
  const auto before = device.clone();
  CHECK(code_of([&] { Engine(device, quiet).run(rewrite, inspection); }) == ErrorCode::guard);
  CHECK(device.same_as(*before));
}

TEST_CASE("rewrite: it is done in order, and the overlay showed just that") {
  MemoryDevice device(100, 512);
  QuietProgress quiet;
  Scripted rewrite;
  rewrite.prepared = {{10, Bytes(1024, 1)}, {12, Bytes(512, 2)}};
  rewrite.settled = {{20, Bytes(512, 3)}, {0, Bytes(512, 4)}};
  Overlay overlay(device);
  const Inspection inspection = Engine::inspect(rewrite, overlay, sector_zero_and_fifty);
  CHECK(inspection.writes ==
        std::vector<WrittenRange>{{Phase::prepare, {10, 3}, "new"},
                                  {Phase::switch_over, {0, 1}, "the one sector"},
                                  {Phase::settle, {20, 1}, "old"},
                                  {Phase::settle, {0, 1}, "old"}});
  Engine(device, quiet).run(rewrite, inspection);
  CHECK(device.read(0, 100) == overlay.read(0, 100));
  CHECK(device.read(0) == Bytes(512, 4));
}

TEST_CASE("rewrite: asked to stop before the switch, it stops before the switch") {
  class Stopping final : public Progress {
   public:
    void stage(std::string_view, std::uint64_t) override {}
    void advance(std::uint64_t) override { stop = true; }
    [[nodiscard]] bool cancelled() const override { return stop; }
    bool stop = false;
  } stopping;
  MemoryDevice device(100, 512);
  Scripted rewrite;
  rewrite.prepared = {{10, Bytes(512, 1)}};
  Overlay overlay(device);
  const Inspection inspection = Engine::inspect(rewrite, overlay, sector_zero_and_fifty);
  CHECK(code_of([&] { Engine(device, stopping).run(rewrite, inspection); }) ==
        ErrorCode::cancelled);
  CHECK(all_zero(device.read(0)));
}

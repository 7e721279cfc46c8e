// nuvrat_bench FOLDER: ratios, each measured in one run on images in FOLDER.

#include <algorithm>
#include <chrono>
#include <filesystem>

#include <fmt/format.h>

#include "orrelune.h"

using namespace nuvrat;

namespace {

double seconds(const std::function<void()>& work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

double median(std::vector<double> values) {
  std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2),
                   values.end());
  return values[values.size() / 2];
}

// The writing part of MBR to GPT, with the undo journal and without, and a plain write and flush of
// as many sectors.
void bench_rewrite(const std::filesystem::path& folder, std::uint64_t sectors) {
  const auto image = folder / "bench.img";
  create_image(image, sectors, 512, true);
  const auto device = open_device(image, {true, 512});
  Layout layout;
  layout.kind = TableKind::mbr;
  layout.disk_sectors = sectors;
  Partition p;
  p.number = 1;
  p.start = 2048;
  p.sectors = 1u << 20;
  p.type = std::uint8_t{0x0C};
  layout.partitions.push_back(p);
  write_new_table(*device, layout);
  const Bytes front = device->read(0, 34);
  Random random(1);
  QuietProgress quiet;
  ReadOptions options;
  const Assessment assessment = assess(*device, {parse_goal("table=gpt")}, options, random);
  std::vector<double> plain, bare, journaled;
  for (int round = 0; round < 31; ++round) {
    device->write(0, front);
    device->write(sectors - 33, Bytes(33 * 512));
    device->flush();
    const auto rewrite = make_rewrite(assessment.steps.at(0), *device);
    Overlay overlay(*device);
    const Inspection inspection = Engine::inspect(*rewrite, overlay, owned_sectors);
    if (round % 2 == 0) {
      bare.push_back(seconds([&] { Engine(*device, quiet).run(*rewrite, inspection); }));
    } else {
      std::filesystem::remove(folder / "journal");
      journaled.push_back(seconds([&] {
        Journal journal = Journal::create(folder / "journal", *device, Undo::full);
        journal.record_step(0, *device, inspection, overlay, owned_sectors(*device));
        Engine(*device, quiet).run(*rewrite, inspection);
        journal.mark_done(0);
      }));
    }
    plain.push_back(seconds([&] {
      device->write(100, Bytes(67 * 512, 1));
      device->flush();
    }));
  }
  fmt::print(
      "MBR to GPT, disk of {:>8}: {:.1f} ms; against a plain write of 67 sectors {:.1f}; with the "
      "journal against without {:.2f}\n",
      format_bytes(sectors * 512), median(bare) * 1e3, median(bare) / median(plain),
      median(journaled) / median(bare));
}

}  // namespace

int main(int argc, char** argv) {
  const std::filesystem::path folder = argc > 1 ? argv[1] : ".";
  bench_rewrite(folder, 1u << 22);
  bench_rewrite(folder, ((1ull << 41) - (1u << 20)) / 512);
  std::filesystem::remove(folder / "bench.img");
  std::filesystem::remove(folder / "journal");
  return 0;
}

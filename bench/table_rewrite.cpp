// MBR to GPT: the writing part, with the undo journal and without, against a plain write and flush
// of as many sectors.

#include <filesystem>

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

#include "disk_bytes.h"
#include "measure.h"

using namespace nuvrat;

namespace bench {

void table_rewrite(const std::filesystem::path& folder, std::uint64_t sectors) {
  const auto image = folder / "bench.img";
  create_image(image, sectors, 512, true);
  const auto device = open_device(image, {true, 512});
  Layout layout = disk_bytes::mbr(sectors);
  disk_bytes::add(layout, Role::primary, {2048, 1u << 20}, 0x0C);
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
        journal.record_step(0, *device, inspection, overlay);
        Engine(*device, quiet).run(*rewrite, inspection);
        journal.mark_done(0);
      }));
    }
    plain.push_back(seconds([&] {
      device->write(100, Bytes(67 * 512, 1));
      device->flush();
    }));
  }
  row(fmt::format("MBR to GPT on {}: a plain write and flush of 67 sectors",
                  format_bytes(sectors * 512)),
      {fmt::format("{:.1f} ms", median(bare) * 1e3),
       fmt::format("{:.1f} x", median(bare) / median(plain))},
      "");
  row("  the undo journal: with it against without",
      {"", fmt::format("{:.2f} x", median(journaled) / median(bare))}, "");
  std::filesystem::remove(image);
  std::filesystem::remove(folder / "journal");
}

}  // namespace bench

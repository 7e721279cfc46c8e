// What a machine does that starts a disk on which there is no system: legacy firmware in an
// emulator is the judge.

#include <cstdlib>
#include <filesystem>

#include <fmt/core.h>

#include "orrelune.h"
#include "support.h"

using namespace nuvrat;

namespace {

// Whether the machine shows this text before its time is over. It shows a screen by a serial line:
// colours and places of the cursor are among the text.
bool shows(const std::filesystem::path& image, const std::string& text) {
  const auto ran = support::run(fmt::format(
      R"sh(
command -v qemu-system-x86_64 >/dev/null || exit 7
: >{1}
plain() {{ sed 's/\x1b\[[0-9;?]*[A-Za-z]//g' <{1} | tr -d '\r\n'; }}
timeout 120 qemu-system-x86_64 -machine pc,accel=tcg,graphics=off -m 32 -nographic -net none -boot c \
  -drive file={0},format=raw,snapshot=on </dev/null >>{1} 2>&1 & machine=$!
n=0
while [ $n -lt 600 ] && ! plain | grep -q '{2}'; do sleep 0.1; n=$((n + 1)); done
kill $machine; wait $machine
plain | grep -q '{2}' || {{ cat {1} >&2; exit 1; }}
)sh",
      image.string(), image.string() + ".shown", text));
  if (ran.status == 7 && std::getenv("CI") == nullptr) return true;  // nothing to judge with
  if (ran.status != 0) MESSAGE(ran.errors);
  return ran.status == 0;
}

const std::string no_system = "This volume holds files and no system: nothing starts from it.";

void make_disk(const std::filesystem::path& image, bool active) {
  create_image(image, 90000, 512, true);
  const auto device = open_device(image, {true, 512});
  Random random(1);
  Layout layout = disk_bytes::gpt(device->sectors(), 512, random);
  const Partition p = disk_bytes::add(layout, {2048, 80000}, random);
  write_new_table(*device, layout);
  WritableWindow window(*device, p.range());
  FatFormat format;
  format.cluster_sectors = 1;
  format.hidden_sectors = p.start;
  FatWriter(window, format).finish();
  orrelune::play(*device, "table=mbr", 3);
  if (active) orrelune::play(*device, "p1.active=yes", 4);
}

}  // namespace

TEST_CASE("start: a volume without a system says so, a disk without an active partition too") {
  const support::Folder folder;
  const auto image = folder / "disk.img";
  make_disk(image, false);
  CHECK(shows(image, "No partition of this disk is active: there is nothing to start"));
  std::filesystem::remove(image);
  make_disk(image, true);
  CHECK(shows(image, no_system));
  // The same of NTFS, by way of the table.
  orrelune::play(*open_device(image, {true, 512}), "p1=ntfs", 5);
  CHECK(shows(image, no_system));
  // A first sector that is no boot sector isn't run.
  open_device(image, {true, 512})->write(2048, Bytes(512));
  CHECK(shows(image, "The active partition of this disk has no boot sector"));
}

TEST_CASE("start: a disk that is one volume says so, of every kind") {
  const support::Folder folder;
  for (const VolumeKind kind : {VolumeKind::fat12, VolumeKind::fat16, VolumeKind::fat32}) {
    CAPTURE(std::string(name_of(kind)));
    const auto image = folder / (name_of(kind) + std::string(".img"));
    create_image(image,
                 kind == VolumeKind::fat12   ? 4000
                 : kind == VolumeKind::fat16 ? 20000
                                             : 80000,
                 512, true);
    FatFormat format;
    format.kind = kind;
    format.cluster_sectors = 1;
    const auto device = open_device(image, {true, 512});
    FatWriter(*device, format).finish();
    CHECK(shows(image, no_system));
  }
}

#include <filesystem>
#include <fstream>

#include "support.h"

using namespace nuvrat;
using support::code_of;

namespace {

// A mirror of what a device should hold, kept in the simplest way.
void compare_with_mirror(Device& device, Random& random, int rounds) {
  const std::uint64_t size = device.sector_size();
  Bytes mirror = device.read(0, device.sectors());
  for (int i = 0; i < rounds; ++i) {
    const std::uint64_t lba = random.below(device.sectors());
    const std::uint64_t count =
        1 + random.below(std::min<std::uint64_t>(20, device.sectors() - lba));
    if (random.below(2) == 0) {
      Bytes data(count * size);
      random.fill(data);
      device.write(lba, data);
      std::copy(data.begin(), data.end(), mirror.begin() + static_cast<std::ptrdiff_t>(lba * size));
    } else {
      const ByteView wanted = ByteView(mirror).subspan(lba * size, count * size);
      const Bytes got = device.read(lba, count);
      REQUIRE(std::equal(wanted.begin(), wanted.end(), got.begin(), got.end()));
    }
  }
  CHECK(device.read(0, device.sectors()) == mirror);
}

}  // namespace

TEST_CASE("device: memory, image, window and overlay hold what was written") {
  const support::Folder folder;
  for (const std::uint32_t size : {512u, 4096u}) {
    Random random(size);
    MemoryDevice memory(700, size);
    compare_with_mirror(memory, random, 300);
    create_image(folder / "disk.img", 300, size, true);
    const auto image = open_device(folder / "disk.img", {true, size});
    compare_with_mirror(*image, random, 300);
    WritableWindow window(memory, {100, 200});
    compare_with_mirror(window, random, 300);
    const auto before = memory.clone();
    {
      Overlay overlay(memory);
      compare_with_mirror(overlay, random, 500);
      SectorSet all;
      for (const SectorRange& r : overlay.written()) all.add(r);
      CHECK(all.count() > 0);
    }
    CHECK(memory.same_as(*before));  // the base is never written
  }
}

TEST_CASE("device: ranges that leave the disk are errors with the sector") {
  MemoryDevice memory(10, 512);
  CHECK(code_of([&] { (void)memory.read(9, 2); }) == ErrorCode::device_read);
  CHECK(code_of([&] { (void)memory.read(~0ull, 1); }) == ErrorCode::device_read);
  CHECK(code_of([&] { memory.write(10, Bytes(512)); }) == ErrorCode::device_write);
  CHECK(code_of([&] { memory.write(0, Bytes(511)); }) == ErrorCode::words);
  CHECK(code_of([&] { Window(memory, {5, 6}); }) == ErrorCode::damaged);
  try {
    (void)memory.read(9, 2);
  } catch (const Error& e) {
    CHECK(e.place().sector == 9);
  }
}

TEST_CASE("device: an image that isn't whole sectors is refused and says by how much") {
  const support::Folder folder;
  std::ofstream(folder / "short.img") << std::string(1000, 'x');
  try {
    (void)open_device(folder / "short.img");
    FAIL("opened");
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::words);
    CHECK(std::string(e.what()).find("24 bytes short") != std::string::npos);
  }
  std::ofstream(folder / "empty.img").close();
  CHECK(code_of([&] { (void)open_device(folder / "empty.img"); }) == ErrorCode::words);
  CHECK(code_of([&] { (void)open_device(folder / "none.img"); }) == ErrorCode::words);
  CHECK(code_of([&] { (void)open_device(folder.path()); }) == ErrorCode::words);
  CHECK(code_of([&] {
          (void)open_device(folder / "short.img", {false, 1024});
        }) == ErrorCode::words);
}

TEST_CASE("device: an image that became shorter while open says which sector is missing") {
  const support::Folder folder;
  create_image(folder / "disk.img", 100, 512, true);
  const auto device = open_device(folder / "disk.img");
  std::filesystem::resize_file(folder / "disk.img", 50 * 512);
  try {
    (void)device->read(40, 20);
    FAIL("read");
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::device_read);
    CHECK(e.place().sector == 50);
  }
}

TEST_CASE("device: a second writer of an image is refused") {
  const support::Folder folder;
  create_image(folder / "disk.img", 100, 512, true);
  const auto first = open_device(folder / "disk.img", {true, 512});
  CHECK(code_of([&] { (void)open_device(folder / "disk.img", {true, 512}); }) == ErrorCode::busy);
  CHECK(code_of([&] { (void)open_device(folder / "disk.img"); }) == ErrorCode::busy);
}

TEST_CASE("device: holes are skipped, data never") {
  MemoryDevice memory(1u << 20, 512);
  CHECK(memory.next_data(0) == memory.sectors());
  memory.write(500000, Bytes(512, 1));
  CHECK(memory.next_data(0) <= 500000);
  CHECK(memory.next_data(500000) == 500000);
  CHECK(memory.next_data(500000 + 128) == memory.sectors());
  Overlay overlay(memory);
  overlay.write(700000, Bytes(512, 2));
  CHECK(overlay.next_data(500128) == 700000);
  const Window window(memory, {400000, 1000});
  CHECK(window.next_data(0) == 1000);
}

TEST_CASE("device: a copy is equal, whatever was on the target") {
  Random random(2);
  for (int round = 0; round < 50; ++round) {
    MemoryDevice from(3000 + random.below(3000), 512);
    MemoryDevice to(from.sectors(), 512);
    for (MemoryDevice* device : {&from, &to}) {
      for (int i = 0; i < 12; ++i) {
        Bytes some(512 * (1 + random.below(8)));
        if (random.below(4) != 0) random.fill(some);
        device->write(random.below(device->sectors() - 8), some);
      }
    }
    copy_device(from, to);
    CHECK(to.same_as(from));
  }
  MemoryDevice small(10, 512), large(11, 512), coarse(10, 4096);
  CHECK(code_of([&] { copy_device(small, large); }) == ErrorCode::refused);
  CHECK(code_of([&] { copy_device(small, coarse); }) == ErrorCode::refused);
}

TEST_CASE("device: sets of sectors") {
  SectorSet set{{10, 5}, {15, 5}, {30, 1}};
  CHECK(set.ranges() == std::vector<SectorRange>{{10, 10}, {30, 1}});
  CHECK(set.count() == 11);
  CHECK(set.contains({12, 8}));
  CHECK_FALSE(set.contains({12, 9}));
  CHECK(set.first_overlap({0, 12}) == SectorRange{10, 2});
  CHECK_FALSE(set.first_overlap({20, 10}));
  CHECK(set.gaps({0, 35}).ranges() == std::vector<SectorRange>{{0, 10}, {20, 10}, {31, 4}});
  set.remove({12, 2});
  CHECK(set.count() == 9);
  CHECK(SectorRange{5, 1}.text() == "sector 5");
  CHECK(SectorRange{5, 3}.text() == "sectors 5 to 7");
}

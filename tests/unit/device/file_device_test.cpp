// Sectors that the system can't read, in a file that has some: this process's own memory, of which
// pages come and go.

#include "device/file_device.h"

#include <fcntl.h>
#include <sys/mman.h>

#include <nuvrat/error.h>

#include "support.h"

using namespace nuvrat;

TEST_CASE("file device: a bad sector is asked for once, until it is written or all is forgotten") {
  constexpr std::uint64_t page = 4096, pages = 16, each = page / 512;
  auto* const memory = static_cast<std::uint8_t*>(
      ::mmap(nullptr, pages * page, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
  REQUIRE(memory != MAP_FAILED);
  const std::uint64_t first = reinterpret_cast<std::uintptr_t>(memory) / 512;
  std::fill(memory, memory + pages * page, std::uint8_t{7});
  device::FileDevice device(base::open_file("/proc/self/mem", O_RDWR), 512,
                            (std::uint64_t{1} << 47) / 512, {}, {});
  const auto lose = [&](std::uint64_t at) { REQUIRE(::munmap(memory + at * page, page) == 0); };
  const auto bring_back = [&](std::uint64_t at) {
    REQUIRE(::mmap(memory + at * page, page, PROT_READ | PROT_WRITE,
                   MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0) == memory + at * page);
  };
  // The sector that could not be read, of a read of so many.
  const auto bad_of = [&](std::uint64_t lba, std::uint64_t count) -> std::optional<std::uint64_t> {
    try {
      (void)device.read(lba, count);
      return std::nullopt;
    } catch (const Error& e) {
      CHECK(e.code() == ErrorCode::device_read);
      return e.place().sector;
    }
  };
  CHECK_FALSE(bad_of(first, pages * each).has_value());
  lose(3);
  CHECK(bad_of(first, pages * each) == first + 3 * each);
  bring_back(3);
  CHECK(bad_of(first, pages * each) == first + 3 * each);
  CHECK(bad_of(first + 3 * each, 1) == first + 3 * each);
  CHECK_FALSE(bad_of(first, 3 * each).has_value());
  CHECK_FALSE(bad_of(first + 3 * each + 1, each).has_value());

  device.write(first + 3 * each, Bytes(512, 9));
  CHECK_FALSE(bad_of(first, pages * each).has_value());

  lose(5);
  CHECK(bad_of(first + 5 * each + 2, 3) == first + 5 * each + 2);
  bring_back(5);
  CHECK(bad_of(first + 5 * each, each) == first + 5 * each + 2);
  device.forget({first, pages * each});
  CHECK_FALSE(bad_of(first, pages * each).has_value());
  ::munmap(memory, pages * page);
}

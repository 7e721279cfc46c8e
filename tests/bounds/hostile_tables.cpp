#include "hostile.h"
#include "support.h"

namespace bounds {

using namespace nuvrat;
using support::put;

namespace {

// n EBRs, each with a logical partition that covers all that is behind it.
std::unique_ptr<MemoryDevice> long_chain(unsigned n) {
  const std::uint32_t container = 2048;
  auto disk = support::disk(std::uint64_t{n} * 2 + 10000);
  Bytes mbr(512);
  const std::uint32_t size = 2 * n + 4000;
  support::put_entry(mbr, 0, 0x0F, container, size);
  disk->write(0, mbr);
  for (std::uint32_t i = 0; i < n; ++i) {
    Bytes ebr(512);
    support::put_entry(ebr, 0, 0x83, 1, size - 2 * i - 1);
    if (i + 1 < n) support::put_entry(ebr, 1, 0x05, 2 * i + 2, 2);
    disk->write(container + 2 * i, ebr);
  }
  return disk;
}

// A GPT with n entries that all cover everything and have the same id.
std::unique_ptr<MemoryDevice> many_entries(unsigned n) {
  const std::uint64_t array = div_up<std::uint64_t>(n, 4);
  const std::uint64_t sectors = 2 * array + 10000;
  auto disk = support::disk(sectors);
  Bytes entries(array * 512);
  for (unsigned i = 0; i < n; ++i) {
    const std::size_t at = std::size_t{i} * 128;
    entries[at] = entries[at + 16] = 7;
    put(entries, at + 32, array + 2, 8);
    put(entries, at + 40, sectors - array - 3, 8);
  }
  const auto header = [&](std::uint64_t own, std::uint64_t other, std::uint64_t first) {
    Bytes out(512);
    const std::string mark = "EFI PART";
    std::copy(mark.begin(), mark.end(), out.begin());
    put(out, 8, 0x00010000, 4);
    put(out, 12, 92, 4);
    put(out, 24, own, 8);
    put(out, 32, other, 8);
    put(out, 40, array + 2, 8);
    put(out, 48, sectors - array - 3, 8);
    put(out, 72, first, 8);
    put(out, 80, array * 4, 4);
    put(out, 84, 128, 4);
    put(out, 88, crc32(entries), 4);
    put(out, 16, crc32(ByteView(out).first(92)), 4);
    disk->write(own, out);
    disk->write(first, entries);
  };
  header(1, sectors - 1, 2);
  header(sectors - 1, 1, sectors - 1 - array);
  Bytes mbr(512);
  support::put_entry(mbr, 0, 0xEE, 1, static_cast<std::uint32_t>(sectors - 1));
  disk->write(0, mbr);
  return disk;
}

}  // namespace

std::vector<Hostile> hostile_tables() {
  return {{"a chain of EBRs whose partitions cover each other", long_chain, 250},
          {"GPT entries that all cover the whole disk", many_entries, 4000}};
}

}  // namespace bounds

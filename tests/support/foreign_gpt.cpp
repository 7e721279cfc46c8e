#include "foreign_gpt.h"

#include <algorithm>

#include "disk_bytes.h"
#include "foreign_disk.h"
#include "support.h"

namespace foreign {

using namespace nuvrat;
using disk_bytes::put;

namespace {

constexpr std::uint64_t disk_bytes_long = 128u << 20;

// Basic data, as its bytes lie.
const Bytes& basic_data() {
  static const Bytes bytes = {0xA2, 0xA0, 0xD0, 0xEB, 0xE5, 0xB9, 0x33, 0x44,
                              0x87, 0xC0, 0x68, 0xB6, 0xB7, 0x26, 0x99, 0xC7};
  return bytes;
}

std::vector<GptShape> make_gpt_shapes() {
  std::vector<GptShape> out;
  const auto add = [&out](const char* name, const auto& change) {
    GptShape s;
    s.name = name;
    change(s);
    out.push_back(s);
  };
  add("as usual, aligned", [](GptShape& s) { s.first_usable = 2048; });
  add("a header as long as its sector", [](GptShape& s) { s.header_bytes = 512; });
  add("entries of 256 bytes", [](GptShape& s) {
    s.entry_bytes = 256;
    s.entries = 64;
  });
  add("four entries", [](GptShape& s) { s.entries = 4; });
  add("256 entries", [](GptShape& s) { s.entries = 256; });
  add("256 entries, and one in use that a usual table hasn't", [](GptShape& s) {
    s.entries = 256;
    s.slots = {0, 1, 200};
  });
  add("the array further on", [](GptShape& s) { s.array = 40; });
  add("the second array further in front", [](GptShape& s) { s.before_back = 100; });
  add("entries in no order, with gaps", [](GptShape& s) { s.slots = {7, 0, 3}; });
  add("a protective partition of full size, active", [](GptShape& s) {
    s.protective_size_full = true;
    s.protective_status = 0x80;
  });
  add("a disk that grew", [](GptShape& s) { s.grown = 5000; });
  add("less called usable", [](GptShape& s) { s.unused_end = 3000; });
  add("sectors of 4096", [](GptShape& s) { s.sector_bytes = 4096; });
  add("sectors of 4096, 16 entries", [](GptShape& s) {
    s.sector_bytes = 4096;
    s.entries = 16;
  });
  return out;
}

}  // namespace

const std::vector<GptShape>& gpt_shapes() {
  static const std::vector<GptShape> shapes = make_gpt_shapes();
  return shapes;
}

std::unique_ptr<MemoryDevice> gpt(const GptShape& s) {
  const std::uint64_t sectors = disk_bytes_long / s.sector_bytes;
  auto disk = std::make_unique<MemoryDevice>(sectors + s.grown, s.sector_bytes);
  const std::uint64_t mib = (1u << 20) / s.sector_bytes;
  Bytes array(std::size_t{s.entries} * s.entry_bytes);
  for (unsigned i = 0; i < 3; ++i) {
    const SectorRange place = {(4 + 30 * i) * mib, 16 * mib};
    const std::size_t at = std::size_t{s.slots[i]} * s.entry_bytes;
    std::copy(basic_data().begin(), basic_data().end(),
              array.begin() + static_cast<std::ptrdiff_t>(at));
    const Bytes id = disk_bytes::noise(16, 50 + i);
    std::copy(id.begin(), id.end(), array.begin() + static_cast<std::ptrdiff_t>(at + 16));
    put(array, at + 32, place.first, 8);
    put(array, at + 40, place.end() - 1, 8);
    // No automatic letter, and hidden, as some are.
    put(array, at + 48, i == 1 ? 0xC000000000000000 : 0, 8);
    const std::u16string name = i == 2 ? std::u16string(36, u'Å') : u"tides";
    for (std::size_t n = 0; n < name.size(); ++n) put(array, at + 56 + 2 * n, name[n], 2);
    put_tides(*disk, place, VolumeKind::fat16, s.sector_bytes == 512 ? 4 : 1, i);
  }
  const std::uint64_t array_sectors = (array.size() + s.sector_bytes - 1) / s.sector_bytes;
  const std::uint32_t of_array = support::slow_crc32(array);
  array.resize(array_sectors * s.sector_bytes);
  const std::uint64_t back = sectors - 1;
  const std::uint64_t back_array = back - s.before_back - array_sectors;
  for (const bool first : {true, false}) {
    Bytes h(s.sector_bytes);
    const std::string magic = "EFI PART";
    std::copy(magic.begin(), magic.end(), h.begin());
    put(h, 8, 0x10000, 4);
    put(h, 12, s.header_bytes, 4);
    put(h, 24, first ? 1 : back, 8);
    put(h, 32, first ? back : 1, 8);
    put(h, 40, s.first_usable != 0 ? s.first_usable : s.array + array_sectors, 8);
    put(h, 48, back_array - 1 - s.unused_end, 8);
    const Bytes id = disk_bytes::noise(16, 40);
    std::copy(id.begin(), id.end(), h.begin() + 56);
    put(h, 72, first ? s.array : back_array, 8);
    put(h, 80, s.entries, 4);
    put(h, 84, s.entry_bytes, 4);
    put(h, 88, of_array, 4);
    put(h, 16, support::slow_crc32(ByteView(h).first(s.header_bytes)), 4);
    disk->write(first ? 1 : back, h);
    disk->write(first ? s.array : back_array, array);
  }
  Bytes mbr(s.sector_bytes);
  disk_bytes::put_entry(mbr, 0, 0xEE, 1, s.protective_size_full ? 0xFFFFFFFF : sectors - 1,
                        s.protective_status);
  put(mbr, 447, 0x000200, 3);
  put(mbr, 451, 0xFFFFFF, 3);
  disk->write(0, mbr);
  return disk;
}

}  // namespace foreign

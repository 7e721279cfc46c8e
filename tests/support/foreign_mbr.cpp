#include "foreign_mbr.h"

#include "disk_bytes.h"
#include "foreign_disk.h"

namespace foreign {

using namespace nuvrat;
using disk_bytes::noise;
using disk_bytes::put;

namespace {

constexpr std::uint64_t disk_sectors = 64000;

bool is_container(std::uint8_t type) {
  return type == 0x05 || type == 0x0F || type == 0x85;
}

// Data at `gap` sectors after its EBR, one after the other, each link to the next.
std::vector<EbrShape> plain_chain(std::uint64_t container, std::uint64_t gap, std::uint64_t length,
                                  unsigned count) {
  std::vector<EbrShape> out;
  for (unsigned i = 0; i < count; ++i) {
    const std::uint64_t at = i * (gap + length);
    EbrShape e{container + at, {{0, 0x06, gap, length}}};
    if (i + 1 < count) e.entries.push_back({1, 0x05, at + gap + length, gap + length});
    out.push_back(e);
  }
  return out;
}

std::vector<MbrShape> make_mbr_shapes() {
  std::vector<MbrShape> out;
  const auto add = [&out](const char* name, const auto& change) {
    MbrShape s;
    s.name = name;
    s.entries = {{0, 0x06, 63, 9000, 0x80}, {1, 0x05, 20160, 30240}};
    s.chain = plain_chain(20160, 63, 8000, 3);
    change(s);
    out.push_back(s);
  };
  add("tracks of 63, true places by heads", [](MbrShape& s) { s.true_chs = true; });
  add("slots in no order", [](MbrShape& s) {
    s.entries = {{3, 0x06, 63, 9000}, {0, 0x06, 52000, 9000}, {2, 0x05, 20160, 30240}};
  });
  add("a container of Linux, hidden types, no identity", [](MbrShape& s) {
    s.entries = {{0, 0x16, 2048, 9000}, {1, 0x85, 20160, 30240}, {2, 0x11, 51000, 9000}};
    s.signature = 0;
  });
  add("a chain in no order", [](MbrShape& s) {
    s.chain = {{20160, {{0, 0x06, 63, 8000}, {1, 0x05, 20000, 8063}}},
               {40160, {{0, 0x06, 63, 8000}, {1, 0x05, 10000, 8063}}},
               {30160, {{0, 0x06, 63, 8000}}}};
  });
  add("the first logical was deleted, and the last", [](MbrShape& s) {
    s.chain = {{20160, {{1, 0x05, 10000, 8063}}},
               {30160, {{0, 0x06, 63, 8000}, {1, 0x05, 20000, 8063}}},
               {40160, {}}};
  });
  add("links before data", [](MbrShape& s) {
    for (EbrShape& e : s.chain) {
      for (MbrEntryShape& entry : e.entries) entry.slot = 1 - entry.slot;
    }
  });
  add("links that name all that follows", [](MbrShape& s) {
    for (EbrShape& e : s.chain) {
      if (e.entries.size() > 1) e.entries[1].sectors = 30240 - e.entries[1].start;
    }
  });
  add("a last link of no length, a status that means nothing", [](MbrShape& s) {
    s.chain.back().entries.push_back({1, 0x05, 0, 0});
    s.chain[1].entries[0].status = 0x01;
  });
  add("code everywhere", [](MbrShape& s) { s.code = true; });
  add("an EBR right in front of its volume",
      [](MbrShape& s) { s.chain = plain_chain(20160, 1, 8000, 3); });
  add("an EBR a MiB in front, an active logical", [](MbrShape& s) {
    s.chain = plain_chain(20160, 2048, 6000, 3);
    s.chain[1].entries[0].status = 0x80;
  });
  add("a chain that begins within the container", [](MbrShape& s) {
    s.chain = {{20160, {{1, 0x05, 5000, 8063}}}, {25160, {{0, 0x06, 63, 8000}}}};
  });
  add("twelve logicals", [](MbrShape& s) {
    s.entries[1].sectors = 12 * 2463;
    s.chain = plain_chain(20160, 63, 2400, 12);
  });
  add("a container with nothing in it", [](MbrShape& s) { s.chain = {{20160, {}}}; });
  add("a type of zero with a length", [](MbrShape& s) {
    s.entries.push_back({2, 0x00, 52000, 3000});
  });
  add("four primaries", [](MbrShape& s) {
    s.chain.clear();
    s.entries = {{0, 0x06, 63, 9000},
                 {1, 0x0E, 10000, 9000},
                 {2, 0x01, 20000, 9000, 0x80},
                 {3, 0x06, 30000, 9000}};
  });
  add("a container in front of a primary", [](MbrShape& s) {
    s.entries = {{0, 0x0F, 2048, 30240}, {1, 0x06, 40000, 9000}};
    s.chain = plain_chain(2048, 63, 8000, 3);
  });
  add("from sector 1 on, and up to the last", [](MbrShape& s) {
    s.entries = {{0, 0x06, 1, 9000}, {1, 0x06, 50000, disk_sectors - 50000}};
    s.chain.clear();
  });
  add("sectors of 4096", [](MbrShape& s) {
    s.sector_bytes = 4096;
    s.chain = plain_chain(20160, 1, 8000, 3);
  });
  return out;
}

// Three bytes, as a BIOS of 16 heads and 63 sectors counts.
std::uint64_t chs(std::uint64_t lba) {
  const std::uint64_t cylinder = lba / 1008, head = lba / 63 % 16, sector = lba % 63 + 1;
  return head | (sector | (cylinder >> 8 & 3) << 6) << 8 | (cylinder & 0xFF) << 16;
}

void put_entries(Bytes& sector, const std::vector<MbrEntryShape>& entries, std::uint64_t base,
                 bool true_chs) {
  put(sector, 510, 0xAA55, 2);
  for (const MbrEntryShape& e : entries) {
    disk_bytes::put_entry(sector, e.slot, e.type, e.start, e.sectors, e.status);
    const std::size_t at = 446 + 16 * std::size_t{e.slot};
    put(sector, at + 1, true_chs ? chs(base + e.start) : 0, 3);
    put(sector, at + 5, true_chs ? chs(base + e.start + e.sectors - 1) : 0, 3);
  }
}

}  // namespace

const std::vector<MbrShape>& mbr_shapes() {
  static const std::vector<MbrShape> shapes = make_mbr_shapes();
  return shapes;
}

std::unique_ptr<MemoryDevice> mbr(const MbrShape& s) {
  auto disk = std::make_unique<MemoryDevice>(disk_sectors, s.sector_bytes);
  unsigned seed = 1;
  const auto fill = [&](SectorRange place) {
    put_tides(*disk, place, VolumeKind::fat12, s.sector_bytes == 512 ? 4 : 8, seed++);
  };
  const auto sector = [&](std::uint64_t lba) {
    Bytes out(s.sector_bytes);
    if (!s.code) return out;
    const Bytes code = noise(440, lba);
    std::copy(code.begin(), code.end(), out.begin());
    return out;
  };
  Bytes first = sector(0);
  put(first, 440, s.signature, 4);
  put_entries(first, s.entries, 0, s.true_chs);
  disk->write(0, first);
  if (s.code) disk->write(1, noise(std::size_t{s.sector_bytes} * 20, 5));
  for (const MbrEntryShape& e : s.entries) {
    if (e.type != 0 && !is_container(e.type)) fill({e.start, e.sectors});
  }
  for (const EbrShape& e : s.chain) {
    Bytes ebr = sector(e.lba);
    put_entries(ebr, e.entries, e.lba, s.true_chs);
    disk->write(e.lba, ebr);
    for (const MbrEntryShape& entry : e.entries) {
      if (entry.sectors > 0 && !is_container(entry.type))
        fill({e.lba + entry.start, entry.sectors});
    }
  }
  return disk;
}

}  // namespace foreign

#include <map>

#include <fmt/core.h>

#include "hostile.h"
#include "support.h"

namespace bounds {

using namespace nuvrat;
using support::put;

namespace {

constexpr std::uint32_t end_of_chain = 0x0FFFFFFF;

// FAT32 with one-sector clusters: FAT entries and clusters as they are set.
class Fat32 {
 public:
  explicit Fat32(std::uint32_t clusters) : fat_(std::max(clusters, 66000u) + 2) {
    fat_[0] = 0x0FFFFFF8;
    fat_[1] = end_of_chain;
    fat_[2] = end_of_chain;
  }
  void link(std::uint32_t cluster, std::uint32_t next) { fat_[cluster] = next; }
  Bytes& cluster(std::uint32_t number) {
    Bytes& out = data_[number];
    out.resize(512);
    return out;
  }
  // An 8.3 entry at a folder's `index`; the folder lies in one piece from `first` on.
  void entry(std::uint32_t first, std::uint32_t index, const std::string& name,
             std::uint8_t attributes, std::uint32_t start, std::uint32_t size) {
    Bytes& bytes = cluster(first + index / 16);
    const std::size_t at = index % 16 * 32;
    for (std::size_t i = 0; i < 11; ++i)
      bytes[at + i] = static_cast<std::uint8_t>(i < name.size() ? name[i] : ' ');
    bytes[at + 11] = attributes;
    put(bytes, at + 20, start >> 16, 2);
    put(bytes, at + 26, start, 2);
    put(bytes, at + 28, size, 4);
  }
  void piece(std::uint32_t first, std::uint32_t count) {
    for (std::uint32_t i = 0; i < count; ++i)
      link(first + i, i + 1 == count ? end_of_chain : first + i + 1);
  }
  [[nodiscard]] std::unique_ptr<MemoryDevice> disk() const {
    const auto clusters = static_cast<std::uint32_t>(fat_.size()) - 2;
    const auto fat_sectors = static_cast<std::uint32_t>(div_up<std::size_t>(fat_.size() * 4, 512));
    const std::uint32_t data = 32 + 2 * fat_sectors;
    auto out = std::make_unique<MemoryDevice>(data + clusters, 512);
    Bytes boot(512);
    boot[0] = 0xEB;
    boot[1] = 0x58;
    boot[2] = 0x90;
    put(boot, 11, 512, 2);
    boot[13] = 1;
    put(boot, 14, 32, 2);
    boot[16] = 2;
    boot[21] = 0xF8;
    put(boot, 32, data + clusters, 4);
    put(boot, 36, fat_sectors, 4);
    put(boot, 44, 2, 4);
    put(boot, 48, 1, 2);
    put(boot, 50, 6, 2);
    boot[66] = 0x29;
    put(boot, 510, 0xAA55, 2);
    out->write(0, boot);
    Bytes fat(std::size_t{fat_sectors} * 512);
    for (std::size_t i = 0; i < fat_.size(); ++i) put(fat, i * 4, fat_[i], 4);
    out->write(32, fat);
    out->write(32 + fat_sectors, fat);
    for (const auto& [number, bytes] : data_) out->write(data + number - 2, bytes);
    return out;
  }

 private:
  std::vector<std::uint32_t> fat_;
  std::map<std::uint32_t, Bytes> data_;
};

constexpr std::uint8_t folder = 0x10;

// Each folder holds the next.
std::unique_ptr<MemoryDevice> nested(unsigned n) {
  Fat32 fat(n + 10);
  for (std::uint32_t i = 0; i < n; ++i) {
    fat.entry(2 + i, 2, "D", folder, 3 + i, 0);
    fat.link(3 + i, end_of_chain);
  }
  return fat.disk();
}

// n files that all have the same chain of n pieces.
std::unique_ptr<MemoryDevice> shared_chain(unsigned n) {
  Fat32 fat(3 * n + 100);
  const std::uint32_t first = n + 10;
  fat.piece(2, n / 16 + 1);
  for (std::uint32_t i = 0; i < n; ++i)
    fat.link(first + 2 * i, i + 1 == n ? end_of_chain : first + 2 * i + 2);
  for (std::uint32_t i = 0; i < n; ++i)
    fat.entry(2, i, fmt::format("F{}", i), 0x20, first, n * 512);
  return fat.disk();
}

// n files whose chains run into the same circle of n clusters.
std::unique_ptr<MemoryDevice> circle(unsigned n) {
  Fat32 fat(3 * n + 100);
  const std::uint32_t first = n + 10;
  fat.piece(2, n / 16 + 1);
  for (std::uint32_t i = 0; i < n; ++i) {
    fat.link(first + 2 * i, i + 1 == n ? first : first + 2 * i + 2);
    fat.entry(2, i, fmt::format("F{}", i), 0x20, first + 2 * i, 700);
  }
  return fat.disk();
}

// One file of n clusters, each behind the one that follows it.
std::unique_ptr<MemoryDevice> backwards(unsigned n) {
  Fat32 fat(2 * n + 100);
  for (std::uint32_t i = 0; i < n; ++i)
    fat.link(10 + 2 * i, i == 0 ? end_of_chain : 10 + 2 * i - 2);
  fat.entry(2, 0, "BACK", 0x20, 10 + 2 * (n - 1), n * 512);
  return fat.disk();
}

// A folder that names one file n times.
std::unique_ptr<MemoryDevice> one_name(unsigned n) {
  Fat32 fat(n + 100);
  fat.piece(2, n / 16 + 1);
  for (std::uint32_t i = 0; i < n; ++i) fat.entry(2, i, "SAME", 0x20, 0, 0);
  return fat.disk();
}

// n folders that are all the same one, which holds n files.
std::unique_ptr<MemoryDevice> one_folder(unsigned n) {
  Fat32 fat(2 * n + 100);
  const std::uint32_t shared = n + 10;
  fat.piece(2, n / 16 + 1);
  fat.piece(shared, n / 16 + 1);
  for (std::uint32_t i = 0; i < n; ++i) {
    // Each begins one cluster further on in the same chain.
    fat.entry(2, i, fmt::format("D{}", i), folder, shared + i % (n / 16 + 1), 0);
    fat.entry(shared, i, fmt::format("F{}", i), 0x20, 0, 0);
  }
  return fat.disk();
}

// The first boot sector is lost, and every reserved sector says that it is the second one of n
// files.
std::unique_ptr<MemoryDevice> many_copies(unsigned n) {
  Fat32 fat(n + 100);
  fat.piece(2, n / 16 + 1);
  for (std::uint32_t i = 0; i < n; ++i) fat.entry(2, i, fmt::format("F{}", i), 0x20, 0, 0);
  auto out = fat.disk();
  Bytes boot = out->read(0);
  for (std::uint64_t at = 2; at < 32; ++at) {
    put(boot, 50, at, 2);
    out->write(at, boot);
  }
  out->write(0, Bytes(512));
  return out;
}

}  // namespace

std::vector<Hostile> hostile_fat() {
  return {{"FAT: folders inside each other", nested, 8000},
          {"FAT: files that share one chain in pieces", shared_chain},
          {"FAT: chains that run in one circle", circle},
          {"FAT: a chain that runs backwards", backwards, 20000},
          {"FAT: one name many times", one_name, 5000},
          {"FAT: folders that begin inside one another", one_folder, 8000},
          {"FAT: second boot sectors everywhere", many_copies, 5000}};
}

}  // namespace bounds

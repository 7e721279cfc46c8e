#pragma once
// FAT volumes that are hard to turn into NTFS, each for one reason. Whoever finds another adds it
// here: it is converted, checked, put back, and shown to the kernel.

#include <functional>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace volumes {

struct Volume {
  std::string name;
  std::uint64_t sectors;
  std::uint32_t sector_size;
  std::function<void(nuvrat::Device&)> make;
};
[[nodiscard]] const std::vector<Volume>& all();

/// Chooses the reserved sectors so that the data area begins on a multiple of the cluster, or not.
void align_data(nuvrat::FatFormat& format, std::uint64_t sectors, std::uint32_t sector_size,
                bool aligned);
[[nodiscard]] nuvrat::Bytes noise(std::size_t size, std::uint64_t seed);

}  // namespace volumes

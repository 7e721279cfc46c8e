#pragma once
// FAT volumes that are hard to turn into NTFS, each for one reason. Whoever finds another adds it
// here: it is converted, checked, put back, and shown to the kernel.

#include <functional>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

#include "disk_bytes.h"
#include "orrelune.h"

namespace volumes {

struct Volume {
  std::string name;
  std::uint64_t sectors;
  std::uint32_t sector_size;
  std::function<void(nuvrat::Device&)> make;
};
/// `crowd`: files of the folder that has most, whose names have `name` characters.
[[nodiscard]] std::vector<Volume> all(unsigned crowd = 60000, unsigned name = 12);

/// A small volume with clusters of 512 bytes or 1 KiB that was filled with files of all lengths, of
/// which many were deleted: what is free lies in pieces. Each seed another one.
struct Aged {
  std::uint64_t sectors = 0;
  std::function<void(nuvrat::Device&)> make;
};
[[nodiscard]] Aged aged(std::uint64_t seed);

/// Deletes files from a finished FAT16 or FAT32 volume, byte by byte: those in the folder TIDES
/// whose entries, counted from 0, the caller names.
void delete_files(nuvrat::Device& device, const std::function<bool(std::size_t)>& chosen);

using disk_bytes::noise;
using orrelune::align_data;

}  // namespace volumes

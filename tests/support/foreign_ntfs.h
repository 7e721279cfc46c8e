#pragma once
// An NTFS volume laid out by other hands than Nuvrat's, byte by byte from the format's description:
// system files with descriptors of their own, nameless records in use, a short $UpCase with a
// stream beside it, few records, files whose names, sizes and runs no conversion would choose.

#include <map>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace foreign {

struct Volume {
  std::unique_ptr<nuvrat::MemoryDevice> disk;
  std::map<std::string, nuvrat::Bytes> files;  ///< contents by path, streams too
};
struct NtfsShape {
  std::uint32_t cluster_bytes = 4096;
  std::uint32_t sector_bytes = 512;
  std::uint32_t record_bytes = 1024;
  bool posix_names = false;  ///< among its names are some that FAT can't spell or tell apart
};
[[nodiscard]] const std::vector<NtfsShape>& ntfs_shapes();
/// `bytes` long. `start`: bytes in front of it, which stay free for a table.
[[nodiscard]] Volume ntfs(const NtfsShape& shape, std::uint64_t bytes, std::uint64_t start = 0);

}  // namespace foreign

#pragma once
// An NTFS volume laid out by other hands than Nuvrat's, byte by byte from the format's description:
// system files with descriptors of their own, nameless records in use, a short $UpCase with a
// stream beside it, few records, files whose names, sizes and runs no conversion would choose.

#include <map>
#include <memory>
#include <string>

#include <nuvrat/nuvrat.h>

namespace foreign {

struct Volume {
  std::unique_ptr<nuvrat::MemoryDevice> disk;
  std::map<std::string, nuvrat::Bytes> files;  ///< contents by path, streams too
};
/// `sectors` of 512 bytes. `start`: sectors in front of it, which stay free for a table.
[[nodiscard]] Volume ntfs(std::uint64_t sectors, std::uint32_t cluster_bytes,
                          std::uint64_t start = 0);

}  // namespace foreign

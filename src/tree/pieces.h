#pragma once
// A file's contents in pieces, from its extents.

#include <algorithm>

#include <nuvrat/bytes.h>
#include <nuvrat/file_tree.h>

namespace nuvrat {

/// read(lba, piece, offset) fills whole sectors; give(piece) takes what of them the file has. What
/// was never written reads as zeros. Returns the bytes that the extents are short of, by offset at
/// the end of what they had.
template <typename Read, typename Give>
std::uint64_t each_piece(const FileTree& tree, FileTree::Id id, std::uint32_t sector_size,
                         ByteSpan buffer, Read read, Give give) {
  std::uint64_t left = tree.valid_bytes(id);
  std::uint64_t unwritten = tree.bytes(id) - left;
  std::uint64_t offset = 0;
  for (const SectorRange& extent : tree.extents(id)) {
    for (std::uint64_t at = 0; at < extent.count && left > 0;) {
      const std::uint64_t sectors =
          std::min<std::uint64_t>({extent.count - at, buffer.size() / sector_size,
                                   div_up<std::uint64_t>(left, sector_size)});
      const ByteSpan piece = buffer.first(sectors * sector_size);
      if (extent.first >= FileTree::hole) {
        std::fill(piece.begin(), piece.end(), std::uint8_t{0});
      } else {
        read(extent.first + at, piece, offset);
      }
      const std::uint64_t n = std::min<std::uint64_t>(left, piece.size());
      give(ByteView(piece.first(n)));
      at += sectors;
      offset += n;
      left -= n;
    }
  }
  if (unwritten > 0) std::fill(buffer.begin(), buffer.end(), std::uint8_t{0});
  while (unwritten > 0) {
    const std::uint64_t n = std::min<std::uint64_t>(unwritten, buffer.size());
    give(ByteView(buffer.first(n)));
    unwritten -= n;
  }
  return left;
}

}  // namespace nuvrat

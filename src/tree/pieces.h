#pragma once
// A file's contents in pieces, from its extents.

#include <algorithm>

#include <nuvrat/bytes.h>
#include <nuvrat/file_tree.h>

namespace nuvrat::tree {

/// read(lba, piece, offset) fills whole sectors; give(piece) takes what of them the file has;
/// zeros(n) stands for n bytes that no sector holds: holes, and what was never written.
template <typename Read, typename Give, typename Zeros>
struct PieceTaker {
  Read read;
  Give give;
  Zeros zeros;
};
template <typename Read, typename Give, typename Zeros>
PieceTaker(Read, Give, Zeros) -> PieceTaker<Read, Give, Zeros>;

/// Returns the bytes that the extents are short of, by offset at the end of what they had.
template <typename Read, typename Give, typename Zeros>
std::uint64_t each_piece(const FileTree& tree, FileTree::Id id, std::uint32_t sector_size,
                         ByteSpan buffer, const PieceTaker<Read, Give, Zeros>& taker) {
  std::uint64_t left = tree.valid_bytes(id);
  const std::uint64_t unwritten = tree.bytes(id) - left;
  std::uint64_t offset = 0;
  for (const SectorRange& extent : tree.extents(id)) {
    if (extent.first >= FileTree::hole) {
      const std::uint64_t n = extent.count < div_up<std::uint64_t>(left, sector_size)
                                  ? extent.count * sector_size
                                  : left;
      if (n > 0) taker.zeros(n);
      offset += n;
      left -= n;
      continue;
    }
    for (std::uint64_t at = 0; at < extent.count && left > 0;) {
      const std::uint64_t sectors =
          std::min<std::uint64_t>({extent.count - at, buffer.size() / sector_size,
                                   div_up<std::uint64_t>(left, sector_size)});
      const ByteSpan piece = buffer.first(sectors * sector_size);
      taker.read(extent.first + at, piece, offset);
      const std::uint64_t n = std::min<std::uint64_t>(left, piece.size());
      taker.give(ByteView(piece.first(n)));
      at += sectors;
      offset += n;
      left -= n;
    }
  }
  if (unwritten > 0) taker.zeros(unwritten);
  return left;
}

/// So many zeros, as pieces of at most the buffer's size.
template <typename Give>
void give_zeros(std::uint64_t bytes, ByteSpan buffer, Give give) {
  std::fill(buffer.begin(), buffer.end(), std::uint8_t{0});
  while (bytes > 0) {
    const std::uint64_t n = std::min<std::uint64_t>(bytes, buffer.size());
    give(ByteView(buffer.first(n)));
    bytes -= n;
  }
}

}  // namespace nuvrat::tree

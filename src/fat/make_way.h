#pragma once
// Makes a free piece in a FAT volume by moving contents of files, a chain's link at a time.
//
// A FAT has no one sector that makes many moves count. But what moves of one file in one go hangs
// on one link: the entry of the cluster before it, or the file's first cluster in its folder.
// Contents and new chain are written into free clusters and free entries; that link's sector is the
// switch; then the old entries become free. Moves whose links are in the same sector share a
// switch.

#include <optional>
#include <utility>
#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/volume.h>

namespace nuvrat::fat {

/// One switch. Sectors are the disk's.
struct Move {
  std::vector<std::pair<SectorRange, std::uint64_t>> contents;  ///< from where, to where
  std::vector<SectorWrite> before;                              ///< entries of the new chain
  SectorWrite change;
  std::vector<SectorWrite> behind;  ///< the same link in other copies; entries that become free
};

struct Room {
  std::vector<Move> moves;
  std::uint64_t clusters = 0;  ///< that move
};

/// A free piece that is wanted.
struct Piece {
  std::uint64_t sectors = 0;     ///< neighbours
  SectorRange within;            ///< of the volume's
  std::size_t max_switches = 0;  ///< that it may take
};
/// Frees such a piece where that moves the least. None where there is no place for it: it would
/// hold a folder, a bad cluster or a chain without a file, or take too many switches. The volume
/// lies at `place` of `disk`, without errors.
[[nodiscard]] std::optional<Room> make_way(const Device& disk, SectorRange place,
                                           const ReadOptions& options, const Piece& wanted);

}  // namespace nuvrat::fat

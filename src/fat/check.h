#pragma once
// Whether a FAT volume keeps the rules of its format. Shares with the reader how a FAT becomes
// runs; folders are walked by its own rules, entry by entry.

#include <vector>

#include <nuvrat/device.h>
#include <nuvrat/finding.h>
#include <nuvrat/volume.h>

#include "fat/fat_map.h"

namespace nuvrat::fat {

/// What a mend needs to know besides the findings.
struct Facts {
  Geometry geometry;
  std::uint32_t free_clusters = 0;
  std::uint32_t first_free = 0;                 ///< 0: none
  std::vector<std::uint32_t> differing_copies;  ///< FATs that aren't like the active one
  std::vector<ClusterRange> owned;              ///< of files and folders, where copies differ
  bool complete = false;                        ///< these are all clusters in use
  bool head_wrong = false;  ///< entry 0 of the active FAT, and it is right in another one
  struct Chain {
    std::uint32_t first = 0;
    std::vector<ClusterRange> ranges;
    bool sound = true;  ///< it ends as a chain ends
  };
  std::vector<Chain> unowned;
  /// A file whose size and chain disagree.
  struct Size {
    std::uint64_t entry_sector = 0;  ///< where its 8.3 entry is, in the volume's sectors
    std::uint32_t entry_offset = 0;  ///< in that sector
    std::uint64_t size = 0;          ///< as the entry says
    std::vector<ClusterRange> chain;
    std::uint64_t clusters = 0;
    std::string path;
  };
  std::vector<Size> sizes;
  bool chains_sound = true;  ///< every folder and file has a chain of its own that ends well
  bool root_lost = false;    ///< what is unowned is all that was in the volume
  bool boot_copy_differs = false;
  Bytes boot_mended;  ///< the first boot sector where the second says it better; else empty
  bool info_wrong = false;
  VolumeTotals totals;
};

/// Throws Error (damaged) when the boot sector makes no sense, device_read where a sector isn't
/// given. `facts` may be null.
[[nodiscard]] Findings check_volume(const Device& device, const ReadOptions& options,
                                    Facts* facts = nullptr);

}  // namespace nuvrat::fat

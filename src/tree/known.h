#pragma once
// Contents hashed before, for a rehearsal.

#include <nuvrat/manifest.h>

#include "tree/pairs.h"

namespace nuvrat::tree {

/// A file that lies on the very sectors of the recorded one, none of them written since, has the
/// contents that were recorded, and need not be read again.
struct KnownContents {
  RecordedNodes& recorded;
  std::uint64_t start = 0;  ///< the first sector of the recorded volume
  Renamings renamed;
  const SectorSet& written;  ///< absolute sectors written since
};

/// record_volume, by contents, where some are known.
[[nodiscard]] ManifestVolume record_known(VolumeReader& reader, std::uint64_t start,
                                          Progress& progress, const KnownContents& known);

}  // namespace nuvrat::tree

#pragma once
// $MFTMirr: copies of the first records of $MFT, and which of both is to be mended.

#include <vector>

#include <nuvrat/device.h>

#include "base/finding_log.h"
#include "ntfs/volume.h"

namespace nuvrat::ntfs {

/// Says which records are damaged and read from their copies.
void note_stand_ins(const Volume& volume, base::FindingLog& log);
/// Holds the copies against the records; those that are read from them aside.
void check_mirror(const Volume& volume, const std::vector<AttributeView>& mirror,
                  base::FindingLog& log);

/// The sectors that make damaged records equal to their copies; and copies to their records. In
/// sectors of the device, from the volume's first; each piece of a record that is no record, or no
/// copy, until the last of them is written.
[[nodiscard]] std::vector<SectorWrite> mended_records(const Volume& volume);
[[nodiscard]] std::vector<SectorWrite> mended_copies(const Volume& volume);
/// Where both are.
[[nodiscard]] SectorSet mirrored_sectors(const Geometry& geometry, std::uint32_t sector_size);

}  // namespace nuvrat::ntfs

#pragma once
// Writes a planned NTFS volume: everything but its first sector, which makes it count.

#include <functional>
#include <string_view>

#include "ntfs/plan.h"

namespace nuvrat::ntfs {

/// Takes whole sectors, counted from the volume's first one.
using SectorWriter = std::function<void(std::uint64_t sector, ByteView data)>;
/// Gives the contents of sectors, for clusters that move.
using SectorReader = std::function<Bytes(std::uint64_t sector, std::uint64_t count)>;

/// Told what the sectors that follow are for.
using Announce = std::function<void(std::string_view what)>;

/// Streams the volume in the order of the plan: large pieces, nothing twice.
void write_volume(const Plan& plan, const SectorReader& read, const SectorWriter& write,
                  const Announce& announce);

/// The boot sector, for sector 0 and for the partition's last one.
[[nodiscard]] Bytes boot_sector(const Plan& plan);

}  // namespace nuvrat::ntfs

#pragma once
// A disk with volumes of other hands on it, each another one.

#include <memory>

#include <nuvrat/nuvrat.h>

namespace foreign {

/// 512-byte sectors, 160 MiB: an MBR, with or without logical partitions, or a GPT, with one to
/// four volumes of any shape and gaps between them.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> random_disk(nuvrat::Random& random);

/// One of the shapes of MBRs and GPTs.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> random_table(nuvrat::Random& random);

/// A FAT volume with twenty files, at a place that a table names.
void put_tides(nuvrat::Device& disk, nuvrat::SectorRange place, nuvrat::VolumeKind kind,
               std::uint32_t cluster_sectors, unsigned seed);

}  // namespace foreign

#pragma once
// Disks written byte by byte, as tests, fuzzers and demo do where no writer would: numbers in
// place, entries of partition tables. Volumes are built by nuvrat::FatWriter, and turned into
// others.

#include <cstdint>

#include <nuvrat/bytes.h>
#include <nuvrat/device.h>
#include <nuvrat/fat_writer.h>
#include <nuvrat/layout.h>
#include <nuvrat/random.h>
#include <nuvrat/volume.h>

namespace disk_bytes {

/// A little-endian number; bytes after the end count as zeros.
[[nodiscard]] std::uint64_t little(nuvrat::ByteView bytes, std::size_t at, unsigned width);
/// Writes one, as far as the bytes reach.
void put(nuvrat::ByteSpan bytes, std::size_t at, std::uint64_t value, unsigned width);
/// Writes entry `slot` (0 to 3) of an MBR or EBR, and the signature at the sector's end.
void put_entry(nuvrat::ByteSpan sector, unsigned slot, std::uint8_t type, std::uint64_t start,
               std::uint64_t sectors, std::uint8_t status = 0);
/// Bytes from a seed that look like nothing.
[[nodiscard]] nuvrat::Bytes noise(std::size_t size, std::uint64_t seed);
/// Copies what a device holds from a sector on to the same sectors of another, whose rest is zero.
void copy_data(const nuvrat::Device& from, nuvrat::Device& to, std::uint64_t first = 0);
/// FAT's local times taken as UTC.
[[nodiscard]] nuvrat::ReadOptions utc();

/// Tables in the making. A GPT has its customary places, and ids that `random` gives.
[[nodiscard]] nuvrat::Layout mbr(std::uint64_t sectors, std::uint32_t sector_size = 512,
                                 std::uint32_t signature = 0);
[[nodiscard]] nuvrat::Layout gpt(std::uint64_t sectors, std::uint32_t sector_size,
                                 nuvrat::Random& random);
/// With the first number that is free in its role. Good until the next one comes.
nuvrat::Partition& add(nuvrat::Layout& mbr, nuvrat::Role role, nuvrat::SectorRange place,
                       std::uint8_t type);
/// One of basic data.
nuvrat::Partition& add(nuvrat::Layout& gpt, nuvrat::SectorRange place, nuvrat::Random& random);

}  // namespace disk_bytes

#pragma once
// Disks written byte by byte, as tests, fuzzers and demo do where no writer would: numbers in
// place, entries of partition tables. Volumes are built by nuvrat::FatWriter, and turned into
// others.

#include <cstdint>

#include <nuvrat/bytes.h>
#include <nuvrat/device.h>
#include <nuvrat/fat_writer.h>
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

}  // namespace disk_bytes

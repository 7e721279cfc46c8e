#pragma once
// The disks of the Orrelune tide station, an invented place: gauges, moorings and hydrophones log
// to small disks that come to the bench. Everything in them comes from a fixed seed.

#include <filesystem>
#include <string>

#include <nuvrat/fat_writer.h>
#include <nuvrat/nuvrat.h>

namespace orrelune {

/// Sectors of the logger disk: 4 GiB.
[[nodiscard]] std::uint64_t logger_sectors(std::uint32_t sector_size);

/// The logger disk on an empty device of that size: an MBR with two primaries, one of them active,
/// and an extended partition with three logicals; FAT32 and FAT16; several hundred files.
void make_logger_disk(nuvrat::Device& device, std::uint64_t seed = 1);
/// The same in a new image with sectors of 512 bytes; its path.
std::string logger_image(const std::filesystem::path& path);

/// Sectors of the archive disk: 3 GiB.
[[nodiscard]] std::uint64_t archive_sectors(std::uint32_t sector_size);

/// The archive disk: a GPT with six partitions, FAT32 and FAT16, the first of them legacy-bootable.
void make_archive_disk(nuvrat::Device& device, std::uint64_t seed = 2);

/// Sectors of the memory sticks: 1 GiB.
[[nodiscard]] std::uint64_t stick_sectors(std::uint32_t sector_size);

/// A memory stick: one FAT32 volume without a partition table.
void make_stick(nuvrat::Device& device, std::uint64_t seed = 3);

/// Another one, pulled out once too often: FSInfo is wrong, the FATs differ, a file is shorter than
/// it says, and two chains belong to nobody.
void make_worn_stick(nuvrat::Device& device, std::uint64_t seed = 4);

/// Sectors of the instrument disk: 2 GiB.
[[nodiscard]] std::uint64_t instrument_sectors(std::uint32_t sector_size);

/// The disk of an instrument: an MBR with one NTFS volume, full at its front.
void make_instrument_disk(nuvrat::Device& device, std::uint64_t seed = 5);

/// Chooses the reserved sectors so that the data area begins on a multiple of the cluster, or not.
void align_data(nuvrat::FatFormat& format, std::uint64_t sectors, std::uint32_t sector_size,
                bool aligned);

/// Does what a planned job would, without its case: for disks in the making.
void play(nuvrat::Device& device, const std::string& goals, std::uint64_t seed);

/// Fills a volume with the station's files: readings, notes, sounds, drawings, names in several
/// scripts, empty and fragmented files, deep folders. `files` is how many readings to make.
void fill_volume(nuvrat::FatWriter& writer, nuvrat::Random& random, unsigned files);

}  // namespace orrelune

#pragma once
// What files have that their new format can't hold, kept in the case.

#include <filesystem>

#include "job/run.h"
#include "tree/recording.h"

namespace nuvrat::job {

/// Streams, extended attributes, reparse points, permissions, object ids and second names of every
/// volume that is about to become FAT, into the case's folder left-behind; how many there are. Once
/// the volume is FAT these are the only ones: each is compared with what was recorded or, where
/// that isn't contents, with what a second reader gets, and read back from the case. Throws as
/// reading a volume does; Error (device_read) where two readings differ.
std::uint64_t keep_left_behind(const Run& run, const tree::Recording& recorded);

/// How many things a case keeps there.
[[nodiscard]] std::uint64_t count_left_behind(const std::filesystem::path& folder);

}  // namespace nuvrat::job

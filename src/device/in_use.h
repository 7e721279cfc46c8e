#pragma once
// Who uses a disk: mounts, swap, layers above it, other processes.

#include <filesystem>
#include <string>
#include <vector>

#include <sys/stat.h>

namespace nuvrat::device {

/// One sentence for each use of the block device (or a partition of it), or of a loop device over
/// the image file, by device and inode: whatever other names it has. Empty when it is not in use.
[[nodiscard]] std::vector<std::string> uses_of(const struct stat& info);

/// The same in one line.
[[nodiscard]] std::string all_uses_of(const struct stat& info);

/// "name (process 123)" of the processes that have the file or device open, this one left out.
[[nodiscard]] std::string holders_of(const struct stat& info, bool only_writers = false);

/// What changes with every write to the image or block device, whoever writes; empty when the
/// system doesn't tell. What is still in the system's memory may not be counted yet.
[[nodiscard]] std::string write_mark(const struct stat& info);

/// The first line of one of the system's own files, without blanks around it; empty when there is
/// none.
[[nodiscard]] std::string first_line(const std::filesystem::path& path);

}  // namespace nuvrat::device

#pragma once
// What the system's own files say of the machine's disks. No disk is opened.

#include <filesystem>
#include <string>
#include <vector>

#include <nuvrat/machine.h>

namespace nuvrat::device {

/// Of the folders in `blocks` (/sys/block), without uses, table and tag.
[[nodiscard]] std::vector<MachineDisk> system_disks(const std::filesystem::path& blocks);

/// A disk's model and serial number, where its driver has them; else empty.
[[nodiscard]] std::string model_in(const std::filesystem::path& block);
[[nodiscard]] std::string serial_in(const std::filesystem::path& block);

}  // namespace nuvrat::device

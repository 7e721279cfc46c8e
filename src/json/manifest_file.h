#pragma once
// The manifest of a case: names and hashes of somebody's files, for the case's owner alone.

#include <filesystem>
#include <string>

#include <nuvrat/manifest.h>

namespace nuvrat::json {

/// As save_manifest, readable by its owner only. Returns the seal. Throws Error (file).
std::string save_private_manifest(const Manifest& manifest, const std::filesystem::path& path);

}  // namespace nuvrat::json

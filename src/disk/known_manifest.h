#pragma once
// Manifests of disks of which a recording is at hand.

#include <vector>

#include <nuvrat/expected_change.h>
#include <nuvrat/survey.h>

#include "tree/recording.h"

namespace nuvrat::disk {

/// What is on sectors that were not written since is taken from there, whole volumes
/// (ManifestVolume::untouched) and contents.
struct KnownManifest {
  const tree::Recording& recorded;
  const SectorSet& written;
  const Expectation& expectation;  ///< which volumes begin elsewhere since
};

/// take_manifest of a rehearsed disk.
[[nodiscard]] Manifest take_known_manifest(const Device& device, const ReadOptions& read,
                                           Progress& progress, const ManifestOptions& options,
                                           const KnownManifest& known);

/// See verify_disk.
[[nodiscard]] Verification verify_recorded(tree::Recording recorded, const Device& device,
                                           const ReadOptions& read, Progress& progress,
                                           const std::vector<unsigned>& numbers = {});

}  // namespace nuvrat::disk

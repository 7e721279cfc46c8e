#pragma once
// Whether a volume is laid out as its boot sector says. One field that is wrong, and a full volume
// reads as an empty one.

#include <string>

#include <nuvrat/device.h>

#include "fat/boot.h"

namespace nuvrat::fat {

/// Why the FATs can't be where the boot sector says; empty where nothing speaks against it. Every
/// FAT begins with the media byte and ones, and copies begin alike: one that is damaged says
/// nothing, one that lies elsewhere does. Throws Error (device_read) but for FATs.
[[nodiscard]] std::string misfit_of(const Device& volume, const Geometry& geometry);

/// geometry_of, and misfit_of: Error (damaged).
[[nodiscard]] Geometry fitting_geometry_of(const Device& volume, ByteView sector0);

/// A boot sector that says of the volume that something lies elsewhere: not another label, serial
/// number, place on the disk or start code.
[[nodiscard]] bool contradicts(const Geometry& geometry, ByteView boot);

}  // namespace nuvrat::fat

#pragma once
// Programs that a machine runs when it starts a disk by legacy firmware. Their sources are in
// base/start_code; a test assembles them and compares the bytes with these.

#include <nuvrat/bytes.h>

namespace nuvrat::base {

/// Says on the screen that nothing starts from here. For the boot sector of a volume, after its
/// parameters.
[[nodiscard]] ByteView volume_start_code();
/// Starts the active partition. For the first bytes of LBA 0: 440 at most.
[[nodiscard]] ByteView mbr_start_code();

}  // namespace nuvrat::base

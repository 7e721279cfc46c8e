#pragma once
// A disk with volumes of other hands on it, each another one.

#include <memory>

#include <nuvrat/nuvrat.h>

namespace foreign {

/// 512-byte sectors, 160 MiB: an MBR, with or without logical partitions, or a GPT, with one to
/// four volumes of any shape and gaps between them.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> random_disk(nuvrat::Random& random);

}  // namespace foreign

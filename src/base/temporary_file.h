#pragma once
// A file without a name, gone with its descriptor.

#include <filesystem>

#include "base/descriptor.h"

namespace nuvrat::base {

/// On the medium of `folder`. Throws Error (file) with that remedy.
[[nodiscard]] Descriptor temporary_file(const std::filesystem::path& folder,
                                        const std::string& remedy);

}  // namespace nuvrat::base

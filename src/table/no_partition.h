#pragma once
// A partition that was named and isn't there.

#include <nuvrat/error.h>
#include <nuvrat/layout.h>

namespace nuvrat::table {

/// Error (words): there is none with that number, or it is extended; the remedy names those that
/// there are.
[[nodiscard]] Error no_partition(const Layout& layout, unsigned number);

}  // namespace nuvrat::table

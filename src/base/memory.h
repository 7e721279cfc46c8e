#pragma once

#if defined(__GLIBC__)
#include <malloc.h>
#endif

namespace nuvrat::base {

/// Gives what was freed back to the system: between two stages that each hold a whole volume's
/// names, the heap would otherwise keep the pages of the one while the other grows.
inline void give_back_memory() {
#if defined(__GLIBC__)
  malloc_trim(0);
#endif
}

}  // namespace nuvrat::base

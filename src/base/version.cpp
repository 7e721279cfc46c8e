#include <nuvrat/version.h>

namespace nuvrat {

const char* version() {
  return NUVRAT_VERSION;
}

}  // namespace nuvrat

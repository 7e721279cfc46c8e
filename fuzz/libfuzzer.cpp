// One target under libFuzzer; which one is decided when it is built.

#include <cstring>

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const fuzz::Target* const target = [] {
    for (const fuzz::Target& t : fuzz::targets()) {
      if (std::strcmp(t.name, NUVRAT_TARGET) == 0) return &t;
    }
    fuzz::broken("there is no target " NUVRAT_TARGET);
  }();
  target->run({data, size});
  return 0;
}

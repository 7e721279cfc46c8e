// The target that NUVRAT_TARGET names, under libFuzzer.

#include <cstdlib>
#include <string>

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const fuzz::Target* const target = [] {
    const char* const name = std::getenv("NUVRAT_TARGET");
    for (const fuzz::Target& t : fuzz::targets()) {
      if (name != nullptr && std::string(t.name) == name) return &t;
    }
    fuzz::broken("NUVRAT_TARGET names no target");
  }();
  target->run({data, size});
  return 0;
}

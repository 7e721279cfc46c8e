#pragma once
// Disks made to wear a reader out, each the larger the larger `n`. Every one is written byte by
// byte, by the formats' descriptions.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace bounds {

struct Hostile {
  std::string what;
  std::function<std::unique_ptr<nuvrat::MemoryDevice>(unsigned n)> make;
  unsigned n = 1000;  ///< the smaller of the two sizes tried
};

[[nodiscard]] std::vector<Hostile> hostile_tables();
[[nodiscard]] std::vector<Hostile> hostile_fat();
[[nodiscard]] std::vector<Hostile> hostile_ntfs();

}  // namespace bounds

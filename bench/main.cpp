// nuvrat_bench FOLDER clock [FILES…]: the time that jobs are expected to take, and the time taken.
// nuvrat_bench FOLDER [FILES…]: a table of ratios, each measured in one run on images in FOLDER; on
// volumes of 10 thousand, 100 thousand and a million files unless others are named.

#include <filesystem>

#include <fmt/core.h>

#include "measure.h"

#if defined(__GLIBC__)
#include <malloc.h>
#endif

int main(int argc, char** argv) {
#if defined(__GLIBC__)
  ::mallopt(M_ARENA_MAX, 1);  // as the tool does
#endif
  if (argc < 2) {
    fmt::print(stderr, "nuvrat_bench FOLDER [clock] [FILES...]\n");
    return 2;
  }
  const std::filesystem::path folder = argv[1];
  const bool clock = argc > 2 && std::string_view(argv[2]) == "clock";
  if (clock) {
    ++argv;
    --argc;
  }
  std::vector<std::uint64_t> sizes;
  for (int i = 2; i < argc; ++i) sizes.push_back(std::stoull(argv[i]));
  if (sizes.empty()) sizes = {10'000, 100'000, 1'000'000};
  if (clock) {
    bench::clock(folder, sizes);
    return 0;
  }
  bench::conversions(folder, sizes);
  bench::table_rewrite(folder, 1u << 22);
  bench::table_rewrite(folder, ((1ull << 41) - (1u << 20)) / 512);
  return 0;
}

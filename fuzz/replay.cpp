// replay CORPUS: every kept input through its target, with the seeds; replay --seeds FOLDER writes
// the seeds, for libFuzzer to begin from.

#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "fuzz.h"

int main(int argc, char** argv) {
  const bool write = argc == 3 && std::string(argv[1]) == "--seeds";
  if (argc != 2 && !write) return 2;
  const std::filesystem::path folder = argv[argc - 1];
  std::size_t inputs = 0;
  for (const fuzz::Target& target : fuzz::targets()) {
    const auto place = folder / target.name;
    std::size_t count = 0;
    for (const fuzz::Bytes& seed : target.seeds()) {
      ++count;
      if (!write) {
        target.run(seed);
        continue;
      }
      std::filesystem::create_directories(place);
      std::ofstream(place / ("seed" + std::to_string(count)), std::ios::binary)
          .write(reinterpret_cast<const char*>(seed.data()),
                 static_cast<std::streamsize>(seed.size()));
    }
    if (count == 0) fuzz::broken("a target without seeds");
    if (!write && std::filesystem::exists(place)) {
      for (const auto& entry : std::filesystem::directory_iterator(place)) {
        std::ifstream in(entry.path(), std::ios::binary);
        const fuzz::Bytes bytes{std::istreambuf_iterator<char>(in), {}};
        std::fprintf(stderr, "%s\n", entry.path().c_str());
        target.run(bytes);
        ++count;
      }
    }
    inputs += count;
  }
  std::printf("%zu inputs, %zu targets\n", inputs, fuzz::targets().size());
  return 0;
}

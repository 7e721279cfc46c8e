// make_disks FOLDER [SECTOR_SIZE]: the demo disks as sparse images.

#include <filesystem>
#include <iostream>
#include <string>

#include "orrelune.h"

int main(int argc, char** argv) {
  if (argc < 2 || argc > 3) {
    std::cerr << "make_disks FOLDER [512|4096]\n";
    return 2;
  }
  try {
    const std::filesystem::path folder = argv[1];
    const std::uint32_t sector_size =
        argc == 3 ? static_cast<std::uint32_t>(std::stoul(argv[2])) : 512;
    std::filesystem::create_directories(folder);
    const auto path = folder / "logger.img";
    nuvrat::create_image(path, orrelune::logger_sectors(sector_size), sector_size, true);
    const auto device = nuvrat::open_device(path, {true, sector_size});
    orrelune::make_logger_disk(*device);
    std::cout << path.string() << '\n';
  } catch (const std::exception& e) {
    std::cerr << e.what() << '\n';
    return 1;
  }
  return 0;
}

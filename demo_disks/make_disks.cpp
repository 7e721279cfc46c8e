// make_disks FOLDER [SECTOR_SIZE]: the demo disks as sparse images.

#include <filesystem>
#include <iostream>
#include <string>

#include "orrelune.h"
#include "system_disk.h"

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
    const auto make = [&](const char* name, std::uint64_t sectors, auto fill) {
      const auto path = folder / name;
      nuvrat::create_image(path, sectors, sector_size, true);
      fill(*nuvrat::open_device(path, {true, sector_size}));
      std::cout << path.string() << '\n';
    };
    make("logger.img", orrelune::logger_sectors(sector_size),
         [](nuvrat::Device& device) { orrelune::make_logger_disk(device); });
    make("archive.img", orrelune::archive_sectors(sector_size),
         [](nuvrat::Device& device) { orrelune::make_archive_disk(device); });
    make("stick.img", orrelune::stick_sectors(sector_size),
         [](nuvrat::Device& device) { orrelune::make_stick(device); });
    make("worn.img", orrelune::stick_sectors(sector_size),
         [](nuvrat::Device& device) { orrelune::make_worn_stick(device); });
    make("instrument.img", orrelune::instrument_sectors(sector_size),
         [](nuvrat::Device& device) { orrelune::make_instrument_disk(device); });
    make("station.img", orrelune::system_disk_sectors({}, sector_size),
         [](nuvrat::Device& device) { orrelune::make_system_disk(device); });
  } catch (const std::exception& e) {
    std::cerr << e.what() << '\n';
    return 1;
  }
  return 0;
}

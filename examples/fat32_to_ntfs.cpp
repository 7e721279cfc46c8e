// fat32_to_ntfs CASE: a FAT32 volume in memory becomes NTFS and is put back. No disk is touched.

#include <iostream>

#include <nuvrat/fat_writer.h>
#include <nuvrat/nuvrat.h>

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "fat32_to_ntfs CASE\n";
    return 2;
  }
  try {
    nuvrat::MemoryDevice disk(600000, 512);  // keeps only what is written
    {
      nuvrat::FatFormat format;
      format.label = "MOORING 4";
      nuvrat::FatWriter writer(disk, format);
      writer.add_directory("readings");
      for (int day = 1; day <= 28; ++day) {
        const nuvrat::Bytes contents(static_cast<std::size_t>(1000 * day), 'w');
        writer.add_file("readings/february " + std::to_string(day) + ".csv", contents);
      }
      writer.finish();
    }
    const auto start = disk.clone();

    nuvrat::Random random;
    const auto plan = nuvrat::assess(disk, {nuvrat::parse_goal("volume=ntfs")}, {}, random);
    nuvrat::JobOptions options;
    options.case_folder = argv[1];
    nuvrat::QuietProgress quiet;
    const auto result = nuvrat::run_job(disk, plan, options, quiet);
    std::cout << nuvrat::recognise_volume(disk).description << ": " << result.files << " files, "
              << (result.sound() ? "nothing was lost" : "something differs") << '\n';

    (void)nuvrat::revert_case(disk, nuvrat::load_case(options.case_folder), {}, quiet);
    const bool same = disk.same_as(*start);
    std::cout << nuvrat::recognise_volume(disk).description << ": "
              << (same ? "every sector as it was" : "not as it was") << '\n';
    return result.sound() && same ? 0 : 1;
  } catch (const nuvrat::Error& e) {
    std::cerr << e.what() << '\n';
    return 1;
  }
}

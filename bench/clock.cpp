// The time that an assessment expects, and the time that the job takes: a table and a volume, by
// contents and by places.

#include <filesystem>

#include <fmt/core.h>

#include <nuvrat/fat_writer.h>

#include "disk_bytes.h"
#include "measure.h"

using namespace nuvrat;

namespace bench {
namespace {

// An MBR disk with one FAT32 volume of so many files.
void make_disk(const std::filesystem::path& image, std::uint64_t files, std::uint64_t file_bytes) {
  const std::uint64_t clusters = files * ((file_bytes + 4095) / 4096) + files / 10 + 70'000;
  const SectorRange place{2048, (clusters * 8 * 13 / 10 / 2048 + 1) * 2048};
  Layout layout = disk_bytes::mbr(place.end() + 4096, 512, static_cast<std::uint32_t>(files));
  const Partition p = disk_bytes::add(layout, Role::primary, place, 0x0C);
  create_image(image, layout.disk_sectors, 512, true);
  const auto device = open_device(image, {true, 512});
  write_new_table(*device, layout);
  WritableWindow window(*device, p.range());
  FatFormat format;
  format.cluster_sectors = 8;
  format.hidden_sectors = p.start;
  FatWriter writer(window, format);
  Bytes content(file_bytes, 0x47);
  for (std::uint64_t i = 0; i < files; ++i) {
    const std::string folder = fmt::format("gauge {:05}", i / 500);
    if (i % 500 == 0) writer.add_directory(folder);
    for (unsigned k = 0; k < 8 && k < content.size(); ++k)
      content[k] = static_cast<std::uint8_t>(i >> 8 * k);
    writer.add_file(fmt::format("{}/reading number {:07}.csv", folder, i), content);
  }
  writer.finish();
  device->flush();
}

// A fresh copy for each job; nothing of it is in the system's memory.
void one_job(const std::filesystem::path& folder, const char* goal, Proof proof,
             const std::string& what) {
  const auto image = folder / "job.img";
  shell(fmt::format("cp --sparse=always {} {} && sync", (folder / "clock.img").string(),
                    image.string()));
  const auto device = open_device(image, {true, 512});
  device->forget({0, device->sectors()});
  Random random(1);
  const Assessment a = assess(*device, {parse_goal(goal)}, {}, random);
  std::filesystem::remove_all(folder / "case");
  JobOptions options;
  options.case_folder = folder / "case";
  options.case_in_memory = true;
  options.proof = proof;
  QuietProgress quiet;
  const JobResult result = run_job(*device, a, options, quiet);
  const double expected = proof == Proof::places ? a.seconds_by_places : a.expected_seconds;
  fmt::print("{:<26} {:<10} {:<9} {:>9.2f} {:>9.2f} {:>7.2f}\n", what, goal, name_of(proof),
             expected, result.seconds, expected / result.seconds);
  std::fflush(stdout);
}

}  // namespace

void clock(const std::filesystem::path& folder, const std::vector<std::uint64_t>& sizes) {
  fmt::print("{:<26} {:<10} {:<9} {:>9} {:>9} {:>7}\n", "files", "goal", "proof", "expected",
             "taken", "ratio");
  std::vector<std::pair<std::uint64_t, std::uint64_t>> disks;
  for (const std::uint64_t files : sizes) disks.emplace_back(files, 3000);
  disks.emplace_back(40, 50'000'000);
  for (const auto& [files, bytes] : disks) {
    make_disk(folder / "clock.img", files, bytes);
    for (const char* goal : {"table=gpt", "p1=ntfs"}) {
      for (const Proof proof : {Proof::contents, Proof::places})
        one_job(folder, goal, proof, fmt::format("{} of {} bytes", files, bytes));
    }
  }
  for (const char* name : {"clock.img", "job.img", "case"})
    std::filesystem::remove_all(folder / name);
}

}  // namespace bench

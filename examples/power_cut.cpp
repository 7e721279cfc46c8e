// power_cut CASE: the power fails in the middle of a rewrite, at every sector that it writes, and
// each time the job is finished from its case. Everything is in memory but the cases.

#include <filesystem>
#include <iostream>

#include <nuvrat/fat_writer.h>
#include <nuvrat/fault.h>
#include <nuvrat/nuvrat.h>

namespace {

std::unique_ptr<nuvrat::MemoryDevice> make_disk() {
  auto disk = std::make_unique<nuvrat::MemoryDevice>(80000, 512);
  nuvrat::Layout layout;
  layout.kind = nuvrat::TableKind::mbr;
  layout.disk_sectors = disk->sectors();
  nuvrat::Partition partition;
  partition.number = 1;
  partition.start = 2048;
  partition.sectors = 60000;
  partition.type = std::uint8_t{0x0E};
  layout.partitions = {partition};
  nuvrat::write_new_table(*disk, layout);
  nuvrat::WritableWindow volume(*disk, partition.range());
  nuvrat::FatFormat format;
  format.kind = nuvrat::VolumeKind::fat16;
  format.hidden_sectors = partition.start;
  nuvrat::FatWriter writer(volume, format);
  writer.add_file("gauge.csv", nuvrat::Bytes(5000, '7'));
  writer.finish();
  return disk;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "power_cut CASE\n";
    return 2;
  }
  const std::filesystem::path folder = argv[1];
  nuvrat::QuietProgress quiet;
  unsigned cuts = 0, finished = 0;
  for (std::uint64_t sector = 1;; ++sector) {
    const auto disk = make_disk();
    nuvrat::FaultPlan plan;
    plan.cut_before = sector;
    plan.seed = sector;  // which of the unflushed sectors survive
    nuvrat::FaultDevice faulty(*disk, plan);
    nuvrat::JobOptions options;
    options.case_folder = folder / std::to_string(sector);
    nuvrat::Random random(1);
    const auto assessment = nuvrat::assess(faulty, {nuvrat::parse_goal("table=gpt")}, {}, random);
    try {
      (void)nuvrat::run_job(faulty, assessment, options, quiet);
      break;  // the rewrite was over before the cut came
    } catch (const nuvrat::Error& e) {
      if (e.code() != nuvrat::ErrorCode::cut_off) {
        std::cerr << e.what() << '\n';
        return 1;
      }
    }
    ++cuts;
    const auto job = nuvrat::load_case(options.case_folder);
    const auto result = nuvrat::resume_case(*disk, job, quiet);
    finished += result.sound() ? 1 : 0;
  }
  std::cout << "cut off " << cuts << " times, finished " << finished << " times, nothing lost\n";
  return cuts > 60 && finished == cuts ? 0 : 1;
}

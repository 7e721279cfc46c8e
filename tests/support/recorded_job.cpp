#include "recorded_job.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

using namespace nuvrat;
namespace fs = std::filesystem;

namespace support {
namespace {

// Every file of a folder, with its name.
std::string text_of_folder(const fs::path& folder) {
  std::vector<fs::path> files;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    if (entry.is_regular_file()) files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  std::ostringstream out;
  for (const fs::path& file : files) {
    out << file.string() << ' ' << fs::file_size(file) << '\n';
    if (fs::file_size(file) > 0) out << std::ifstream(file, std::ios::binary).rdbuf();
  }
  return std::move(out).str();
}

}  // namespace

// Between the job and the disk.
class RecordedJob::Recorder final : public Device {
 public:
  Recorder(FaultDevice& base, RecordedJob& job, fs::path folder)
      : Device(base.sector_size(), base.sectors(), base.identity(), base.physical()),
        base_(base),
        job_(job),
        folder_(std::move(folder)) {}
  void forget(SectorRange range) const override { base_.forget(range); }
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override {
    return base_.next_data(lba);
  }

 private:
  void do_read(std::uint64_t lba, ByteSpan out) const override { base_.read(lba, out); }
  bool do_read_medium(std::uint64_t lba, ByteSpan out) const override {
    return base_.read_medium(lba, out);
  }
  void do_write(std::uint64_t lba, ByteView data) override {
    job_.keep_case(folder_, base_.sectors_written() + 1);
    job_.operations_.push_back({lba, Bytes(data.begin(), data.end())});
    base_.write(lba, data);
  }
  void do_flush() override {
    job_.operations_.push_back({});
    base_.flush();
  }
  void do_reserve(SectorRange range) override { base_.reserve({range}); }

  FaultDevice& base_;
  RecordedJob& job_;
  fs::path folder_;
};

RecordedJob::RecordedJob(const MemoryDevice& original, const Assessment& assessment)
    : original_(original), result_(original.clone()) {
  FaultDevice counter(*result_, {});
  const fs::path job = folder_ / "job";
  Recorder recorder(counter, *this, job);
  QuietProgress quiet;
  REQUIRE(run_job(recorder, assessment, case_in_memory(job), quiet).sound());
  sectors_ = counter.sectors_written();
}

void RecordedJob::keep_case(const fs::path& job, std::uint64_t sector) {
  std::string now = text_of_folder(job);
  if (now == last_case_) return;
  last_case_ = std::move(now);
  const fs::path kept = folder_ / ("before " + std::to_string(sector));
  fs::copy(job, kept, fs::copy_options::recursive);
  cases_[sector] = kept;
}

std::unique_ptr<MemoryDevice> RecordedJob::cut(const FaultPlan& plan) const {
  auto disk = original_.clone();
  FaultDevice device(*disk, plan);
  try {
    for (const Operation& o : operations_) {
      if (o.data.empty())
        device.flush();
      else
        device.write(o.lba, o.data);
    }
  } catch (const Error&) {
    REQUIRE(device.dead());
  }
  REQUIRE(device.dead());
  return disk;
}

std::uint64_t RecordedJob::copy_case(std::uint64_t sector, const fs::path& job) const {
  const auto kept = std::prev(cases_.upper_bound(sector));
  fs::copy(kept->second, job, fs::copy_options::recursive);
  return kept->first;
}

}  // namespace support

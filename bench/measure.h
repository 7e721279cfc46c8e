#pragma once
// What the benchmarks measure with.

#include <chrono>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace bench {

[[nodiscard]] double seconds(const std::function<void()>& work);
[[nodiscard]] double median(std::vector<double> values);

/// Figures by name, handed from a process to the one that started it.
using Figures = std::map<std::string, double>;
/// Runs `work` in a process of its own, so that its peak memory is its own; adds that as
/// "peak_bytes". Ends the program where the work fails.
[[nodiscard]] Figures in_child(const std::function<void(Figures&)>& work);
/// Runs a command; throws Error (file) where it fails.
void shell(const std::string& command);

/// Passes everything on and counts it.
class Meter final : public nuvrat::Device {
 public:
  explicit Meter(nuvrat::Device& below);
  mutable std::uint64_t bytes_read = 0;
  std::uint64_t bytes_written = 0;
  [[nodiscard]] std::uint64_t next_data(std::uint64_t lba) const override;
  void forget(nuvrat::SectorRange range) const override { below_.forget(range); }

 private:
  void do_read(std::uint64_t lba, nuvrat::ByteSpan out) const override;
  void do_write(std::uint64_t lba, nuvrat::ByteView data) override;
  void do_flush() override { below_.flush(); }
  nuvrat::Device& below_;
};

/// How long each stage of a job took, by the first word of its name.
class Stages final : public nuvrat::Progress {
 public:
  void stage(std::string_view name, std::uint64_t total) override;
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return false; }
  [[nodiscard]] double of(const std::string& name) { return seconds_[name]; }

 private:
  std::string name_;
  std::chrono::steady_clock::time_point begun_;
  std::map<std::string, double> seconds_;
};

/// Writes straight to the device what a rewrite prepares.
class Straight final : public nuvrat::SectorSink {
 public:
  explicit Straight(nuvrat::Device& device) : device_(device) {}
  void write(std::uint64_t lba, nuvrat::ByteView data) override { device_.write(lba, data); }

 private:
  nuvrat::Device& device_;
};

/// One row of the table: what, a figure for each size, the aim.
void row(const std::string& what, const std::vector<std::string>& figures, const std::string& aim);

/// MBR to GPT: the writing part against a plain write and flush.
void table_rewrite(const std::filesystem::path& folder, std::uint64_t sectors);
/// The expected time of jobs on disks of so many files, and the time taken.
void clock(const std::filesystem::path& folder, const std::vector<std::uint64_t>& sizes);
/// FAT32 to NTFS and everything around it, on volumes of so many files.
void conversions(const std::filesystem::path& folder, const std::vector<std::uint64_t>& sizes);

}  // namespace bench

#pragma once
// What tests share: folders that go away, the tool as a process, disks made byte by byte.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include <doctest/doctest.h>

#include <nuvrat/fat_writer.h>
#include <nuvrat/fault.h>
#include <nuvrat/nuvrat.h>

#include "disk_bytes.h"

namespace support {

using disk_bytes::little;
using disk_bytes::noise;
using disk_bytes::put;
using disk_bytes::put_entry;
using disk_bytes::utc;

/// A folder of its own, removed at the end.
class Folder {
 public:
  /// In memory, where the machine has such a place: for tests that would otherwise wait for the
  /// disk thousands of times.
  enum class Where { disk, memory };
  explicit Folder(Where where = Where::disk);
  ~Folder();
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;
  [[nodiscard]] std::filesystem::path operator/(const std::string& name) const {
    return path_ / name;
  }
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

/// ./test --long: more of what a smaller number proves as well.
[[nodiscard]] bool is_long();
/// The seed of a random choice: `usual` in every run of the tests; with NUVRAT_SEED set to a number
/// another one for each number, so that days of tries are no repetition.
[[nodiscard]] std::uint64_t seed(std::uint64_t usual);

struct Ran {
  int status = -1;
  std::string out;     ///< standard output
  std::string errors;  ///< standard error
};
/// Runs a shell command with no standard input.
Ran run(const std::string& command);
/// Runs the built tool with these arguments.
Ran tool(const std::string& arguments);

/// All of it, with FAT's times in UTC.
[[nodiscard]] nuvrat::Manifest manifest_of(const nuvrat::Device& disk);

/// A file's contents by its path.
[[nodiscard]] nuvrat::Bytes contents_of(nuvrat::VolumeReader& reader, const std::string& path);

/// A kept image out of tests/data.
void unpack_image(const std::string& name, const std::filesystem::path& image);

/// SHA-256 over the data of a (sparse) file, with the offset of each 64 KiB piece that isn't zero.
std::string fingerprint(const std::filesystem::path& file);

/// A job whose case is this folder, in memory.
nuvrat::JobOptions case_in_memory(const std::filesystem::path& folder);

/// What is shown in lines, in one: every run of blanks and line ends is one blank.
std::string on_one_line(const std::string& text);

/// The code of the Error that `call` throws; fails the test when it throws none.
nuvrat::ErrorCode code_of(const std::function<void()>& call);

/// Does something whenever a stage begins.
class AtStage final : public nuvrat::Progress {
 public:
  explicit AtStage(std::function<void(std::string_view name)> act) : act_(std::move(act)) {}
  void stage(std::string_view name, std::uint64_t) override { act_(name); }
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return false; }

 private:
  std::function<void(std::string_view)> act_;
};

/// Counts every read of the device below it, by sector.
class ReadNotes final : public nuvrat::Device {
 public:
  explicit ReadNotes(nuvrat::Device& below)
      : Device(below.sector_size(), below.sectors(), below.identity()), below_(below) {}
  mutable std::map<std::uint64_t, int> reads;

 private:
  void do_read(std::uint64_t lba, nuvrat::ByteSpan out) const override;
  void do_write(std::uint64_t lba, nuvrat::ByteView data) override { below_.write(lba, data); }
  void do_flush() override { below_.flush(); }

  nuvrat::Device& below_;
};

/// A disk in memory, zero, with 512-byte sectors unless told otherwise.
std::unique_ptr<nuvrat::MemoryDevice> disk(std::uint64_t sectors, std::uint32_t sector_size = 512);

/// An MBR disk with one FAT volume at `start`, as an image file.
void make_small_disk(const std::filesystem::path& file, std::uint64_t disk_sectors,
                     std::uint64_t start, std::uint64_t sectors, std::uint8_t type = 0x0E,
                     std::uint32_t sector_size = 512);

/// Somebody uses, on a copy of a disk whose job is done, one of the sectors that the job gave up
/// without writing them; they are in no journal. Checks that the way back is refused with nothing
/// written, or gives every file all the same.
enum class WayBack { nothing_given_up, whole, refused };
WayBack use_what_was_given_up(const nuvrat::Device& original, const nuvrat::MemoryDevice& after,
                              const nuvrat::CaseFile& job, nuvrat::Random& random);

/// CRC-32 by the definition, one bit at a time.
std::uint32_t slow_crc32(nuvrat::ByteView bytes);

/// Checks both copies of a GPT and the protective MBR from the specification's text alone; appends
/// what is wrong.
std::vector<std::string> judge_gpt(const nuvrat::Device& device);

}  // namespace support

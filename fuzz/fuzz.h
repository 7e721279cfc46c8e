#pragma once
// A fuzz target is a function that takes any bytes and must neither crash nor hang nor break its
// word. The same targets are run by libFuzzer (preset "fuzz") and replayed over the kept corpus by
// ./test.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

#include "disk_bytes.h"

namespace fuzz {

using disk_bytes::little;
using disk_bytes::put;
using disk_bytes::put_entry;
using disk_bytes::utc;

using nuvrat::Bytes;
using nuvrat::ByteView;

struct Target {
  const char* name;
  void (*run)(ByteView input);
  /// A few inputs that get far, made by the project's own writers.
  std::vector<Bytes> (*seeds)();
};

const std::vector<Target>& targets();
// One file of targets each.
[[nodiscard]] std::vector<Target> table_targets();
[[nodiscard]] std::vector<Target> fat_targets();
[[nodiscard]] std::vector<Target> ntfs_targets();
[[nodiscard]] std::vector<Target> file_targets();
[[nodiscard]] std::vector<Target> rewrite_targets();
[[nodiscard]] std::vector<Target> boot_targets();
[[nodiscard]] std::vector<Target> device_targets();

/// Ends the process with a message: the target's word is broken.
[[noreturn]] void broken(const std::string& what);

/// Runs `work`; an Error is an answer, anything else is not.
template <typename Work>
void expect_answer(Work work) {
  try {
    work();
  } catch (const nuvrat::Error&) {
    // what was wrong with the input, in words
  }
}

/// A file in memory for parsers that read files.
class TempFile {
 public:
  explicit TempFile(ByteView contents);
  ~TempFile();
  TempFile(const TempFile&) = delete;
  TempFile& operator=(const TempFile&) = delete;
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

// Disks as scripts, so that inputs stay small however large the disk is.
//   script = options u8, sectors-exponent u8, then pieces
//   piece  = place u32 (bit 31: counted from the end), count u16 (bytes), bytes
// Options: 1 = sectors of 4096 bytes; 2 = put checksums and update sequences right afterwards.

[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> disk_from(ByteView script);
/// The script of what a disk holds.
[[nodiscard]] Bytes script_of(const nuvrat::MemoryDevice& disk, bool mend);
/// Everything that reading can do with a disk: survey, check, every file's contents.
void read_everything(nuvrat::Device& disk);

/// The same of the disk that a script makes, as a target.
void volume(ByteView script);

/// Makes a torn record or index block whole: its update sequence as its contents say.
void mend_record(nuvrat::ByteSpan record);
/// Puts the checksums of both copies of a GPT right.
void mend_gpt(nuvrat::MemoryDevice& disk);

/// Sectors that hold more than one byte over and over: the structures.
[[nodiscard]] std::vector<std::uint64_t> structures_of(const nuvrat::MemoryDevice& disk);
/// Pieces of five bytes: which of the sectors (u16), offset in it (u16), value; so that a mutation
/// is one small damage somewhere in the structures.
void damage(nuvrat::MemoryDevice& disk, const std::vector<std::uint64_t>& sectors, ByteView pieces);

// Disks to begin from.
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> fat_volume(nuvrat::VolumeKind kind,
                                                               unsigned more_files = 0);
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> ntfs_volume(unsigned more_files = 0);
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> mbr_disk();
[[nodiscard]] std::unique_ptr<nuvrat::MemoryDevice> gpt_disk();

/// Does a job in memory, with its case in a folder that goes away.
[[nodiscard]] nuvrat::JobResult convert(
    nuvrat::Device& disk, const nuvrat::Assessment& plan,
    const std::function<void(const std::filesystem::path&)>& with_case = nullptr);
/// Does a plan that is in reach on a copy of the disk, reads its report, and goes back: nothing is
/// lost, and the way back leads to the very disk.
void do_and_undo(const nuvrat::MemoryDevice& disk, const nuvrat::Assessment& plan);

}  // namespace fuzz

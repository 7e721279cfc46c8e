#pragma once
// Makes a new FAT12, FAT16 or FAT32 volume and fills it. For demo disks, tests and examples; a
// volume with data on it is rewritten by a job, never by this.

#include <memory>
#include <string>
#include <string_view>

#include <nuvrat/device.h>
#include <nuvrat/time.h>
#include <nuvrat/volume_kind.h>

namespace NUVRAT_API nuvrat {

struct FatFormat {
  VolumeKind kind = VolumeKind::fat32;
  std::uint32_t cluster_sectors = 8;   ///< a power of two
  std::uint32_t reserved_sectors = 0;  ///< 0: 32 on FAT32, 1 otherwise
  std::uint32_t fats = 2;
  std::uint32_t root_entries = 512;  ///< FAT12 and FAT16
  std::string label;                 ///< at most 11 characters of the code page
  std::uint32_t serial = 0;
  std::uint64_t hidden_sectors = 0;  ///< where the volume begins on its disk
  unsigned codepage = 437;
  Zone zone;  ///< what local time the entries hold
};

/// How a file's clusters are laid out.
enum class Placement {
  together,   ///< the first free run that holds it
  scattered,  ///< every second free cluster
  at_end,     ///< the volume's last free clusters
};

struct FatFileInfo {
  std::uint32_t attributes = 0x20;
  Ticks created = 0, modified = 0, accessed = 0;
  Placement placement = Placement::together;
};

class FatWriter {
 public:
  /// Lays out a volume that fills `device`, which must read as zeros. Throws Error (refused) when
  /// the cluster count does not fit the kind.
  FatWriter(Device& device, const FatFormat& format);
  ~FatWriter();
  FatWriter(const FatWriter&) = delete;
  FatWriter& operator=(const FatWriter&) = delete;

  /// `path` is UTF-8 with '/'; the folder above must exist.
  void add_directory(std::string_view path, const FatFileInfo& info = {});
  void add_file(std::string_view path, ByteView content, const FatFileInfo& info = {});
  /// A file of `size` bytes that are not written: zeros on a new image.
  void add_sparse_file(std::string_view path, std::uint64_t size, const FatFileInfo& info = {});
  /// Marks free clusters as bad.
  void mark_bad(std::uint32_t first, std::uint32_t count);
  [[nodiscard]] std::uint32_t free_clusters() const;
  /// Writes FATs, folders and boot sectors. Nothing may be added afterwards.
  void finish();

 private:
  class Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace nuvrat

#pragma once
// A FAT volume becomes NTFS, every file where it is.

#include <nuvrat/volume.h>

#include "ntfs/plan.h"
#include "steps/fields.h"

namespace nuvrat::steps {

/// How the volume of a step is to be read.
[[nodiscard]] ReadOptions options_of(const VolumeChange& change);

/// A FAT volume opened, and how it would be as NTFS. The device must outlive it.
class FatAsNtfs {
 public:
  FatAsNtfs(const Device& device, const VolumeChange& change);
  [[nodiscard]] VolumeReader& reader() { return *reader_; }
  [[nodiscard]] const FileTree& tree() { return reader_->tree(); }
  [[nodiscard]] const ntfs::Plan& plan() const { return *plan_; }

 private:
  Window window_;
  std::unique_ptr<VolumeReader> reader_;
  std::unique_ptr<ntfs::Plan> plan_;
};

/// Every structure of NTFS into free clusters, the boot sector as the switch; then the boot area
/// and the second boot sector.
struct FatToNtfs {
  static constexpr const char* code = "fat-to-ntfs";
  static constexpr std::uint64_t boot_area = 8192;  ///< bytes
  VolumeChange change;

  /// FAT32's second boot sector, where sectors are so long that it is after the boot area. Were the
  /// first one lost one day, it would still speak of a FAT volume.
  [[nodiscard]] static std::optional<std::uint64_t> old_copy(const Device& device,
                                                             SectorRange place);

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const {
    return "free sectors; after the switch FAT's boot area and the last sector";
  }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

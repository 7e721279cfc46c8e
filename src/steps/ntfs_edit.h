#pragma once
// A live NTFS volume changed by shadows.

#include "ntfs/edit.h"
#include "steps/fields.h"

namespace nuvrat::steps {

/// Clusters made free: what lies in them, and shadows of all that leads there, into free clusters;
/// the boot sector as the switch; then its copy.
struct NtfsMakeWay {
  static constexpr const char* code = "ntfs-make-way";
  VolumeChange change;
  std::vector<SectorRange> vacate;  ///< in sectors from the volume's first; whole clusters
  std::vector<SectorRange> avoid;   ///< where nothing new is put, either
  std::uint64_t mft_lcn = 0, mirror_lcn = 0;  ///< what the boot sector says then

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
    f("vacate", self.vacate);
    f("avoid", self.avoid);
    f("mft_lcn", self.mft_lcn);
    f("mirror_lcn", self.mirror_lcn);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return "NTFS boot sectors"; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;

  /// The edit of the volume on this device (a window onto the partition), laid out; or why not.
  [[nodiscard]] std::unique_ptr<NtfsEdit> edit(const Device& volume,
                                               std::optional<EditTrouble>& trouble) const;
};

}  // namespace nuvrat::steps

#pragma once
// A live NTFS volume changed by shadows.

#include "ntfs/edit.h"
#include "steps/fields.h"

namespace nuvrat::steps {

/// Clusters made free, another size, another label, new files: what moves, and shadows of all that
/// changes, into free clusters; the boot sector as the switch; then its copy. Of a volume that
/// begins earlier (change.front) all of $MFT, and a new boot area; the switch is another's:
/// ToFront.
struct EditNtfs {
  static constexpr const char* code = "ntfs-edit";
  VolumeChange change;
  // In sectors from the volume's first one afterwards.
  std::vector<SectorRange> vacate;  ///< whole clusters
  std::vector<SectorRange> avoid;   ///< where nothing new is put, either
  std::uint64_t sectors = 0;        ///< of the volume with its second boot sector; 0: as before
  std::uint64_t old_copy = 0;       ///< of another size: where the second boot sector was
  bool relabels = false;
  std::string label;
  bool ends_snapshots = false;                ///< there are restore points, which it spoils
  std::vector<tree::PutFile> files;           ///< new ones, and new contents
  std::uint64_t mft_lcn = 0, mirror_lcn = 0;  ///< what the boot sector says then

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
    f("vacate", self.vacate);
    f("avoid", self.avoid);
    f("sectors", self.sectors);
    f("old_copy", self.old_copy);
    f("relabels", self.relabels);
    f("label", self.label);
    f("ends_snapshots", self.ends_snapshots);
    f("files", self.files);
    f("mft_lcn", self.mft_lcn);
    f("mirror_lcn", self.mirror_lcn);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return "NTFS boot sectors"; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;

  /// The edit of the volume on this device (a window onto the partition), laid out; or why not.
  [[nodiscard]] std::variant<ntfs::Edit, ntfs::EditTrouble> edit(const Device& volume) const;
  /// Takes over what a laid out edit says: places, and the figures of the change.
  void take(const ntfs::Edit& edit, std::uint32_t sector_bytes);
};

}  // namespace nuvrat::steps

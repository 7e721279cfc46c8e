#pragma once
// A new volume where no partition is, empty or with files.

#include "steps/fields.h"

namespace nuvrat::steps {

/// All of a volume into free sectors, its first one as the switch: a partition that is made
/// afterwards finds it there.
struct NewVolume {
  static constexpr const char* code = "new-volume";
  VolumeChange change;
  std::string label;
  std::uint32_t cluster_sectors = 0;
  std::vector<tree::PutFile> files;  ///< on FAT only

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
    f("label", self.label);
    f("cluster_sectors", self.cluster_sectors);
    f("files", self.files);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return "free sectors"; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;

  /// Whether a volume of this kind can be of this size; sets the size of clusters and the figures.
  [[nodiscard]] bool choose(std::uint32_t sector_bytes);
};

}  // namespace nuvrat::steps

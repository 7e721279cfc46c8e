#pragma once
// A volume that begins earlier: the table's one sector is the switch for both.

#include "steps/gpt_aside.h"
#include "steps/ntfs_edit.h"
#include "steps/table_mbr.h"
#include "steps/to_fat.h"

namespace nuvrat::steps {

/// All that the volume needs there, its first sector too, into the room in front of it and into
/// free clusters; the table that says so; then what either tidies up, and the first sector of
/// before goes.
struct ToFront {
  static constexpr const char* code = "to-front";
  std::optional<EditNtfs> ntfs;  ///< this or the next
  std::optional<ToFat> fat;
  std::optional<TableMbr> mbr;  ///< this or the next
  std::optional<GptAside> gpt;

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("ntfs", self.ntfs);
    f("fat", self.fat);
    f("mbr", self.mbr);
    f("gpt", self.gpt);
  }
  [[nodiscard]] const VolumeChange* volume() const { return ntfs ? &ntfs->change : &fat->change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return ntfs ? ntfs->touches() : fat->touches(); }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

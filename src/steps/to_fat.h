#pragma once
// A volume becomes FAT: NTFS, or a FAT of another type or another size of cluster.

#include <nuvrat/function_ref.h>
#include <nuvrat/volume.h>

#include "fat/plan.h"
#include "steps/fields.h"
#include "steps/put_files.h"

namespace nuvrat::steps {

/// Folders, FATs and what can't stay into free sectors, the boot sector as the switch; then what
/// else the reserved sectors hold, and the second boot sector of NTFS goes.
struct ToFat {
  static constexpr const char* code = "to-fat";
  VolumeChange change;
  // The geometry, as the search found it.
  std::uint32_t cluster_sectors = 0, reserved_sectors = 0, fat_sectors = 0, root_entries = 0;
  std::uint32_t root_cluster = 0;  ///< FAT32
  std::uint32_t free_after = 0, next_free = 0;
  std::uint64_t old_copy = 0;  ///< of NTFS: where its second boot sector is, counted as the new
                               ///< volume does; 0: nowhere
  std::uint64_t sectors = 0;   ///< of the new volume; 0: as many as its partition has
  std::string label;           ///< as FAT spells it
  bool rename = false;         ///< names that FAT can't spell become others: safe_names()
  std::vector<tree::PutFile> files;  ///< new ones, and new contents
  /// FAT of the same kind: its first sectors, whose start code is kept; empty: there is none.
  Bytes start_code;

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
    f("cluster_sectors", self.cluster_sectors);
    f("reserved_sectors", self.reserved_sectors);
    f("fat_sectors", self.fat_sectors);
    f("root_entries", self.root_entries);
    f("root_cluster", self.root_cluster);
    f("free_after", self.free_after);
    f("next_free", self.next_free);
    f("old_copy", self.old_copy);
    f("sectors", self.sectors);
    f("label", self.label);
    f("rename", self.rename);
    f("files", self.files);
    f("start_code", self.start_code);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const;
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;

  /// Sets the geometry's numbers.
  void take(const fat::Geometry& geometry);
  [[nodiscard]] fat::Geometry geometry(std::uint32_t sector_bytes) const;
  [[nodiscard]] std::uint64_t sectors_of_volume() const {
    return sectors == 0 ? change.new_place().count : sectors;
  }
};

/// A volume opened, and how it would be as FAT, all sectors counted from where that begins. The
/// device must outlive it.
class VolumeAsFat {
 public:
  /// `files`: what is put on it.
  VolumeAsFat(const Device& device, const VolumeChange& change,
              const std::vector<tree::PutFile>& files);
  [[nodiscard]] VolumeReader& reader() { return *reader_; }
  [[nodiscard]] const FileTree& tree() { return changed_ ? *changed_ : reader_->tree(); }
  void read_contents(FileTree::Id id, ByteSink to);
  [[nodiscard]] const SectorSet& free() const { return *free_; }
  [[nodiscard]] fat::Target target(const ToFat& step);
  /// Throws as fat::Plan does.
  [[nodiscard]] fat::Plan plan(const ToFat& step) { return {tree(), target(step)}; }

 private:
  [[nodiscard]] SectorSet moved_on(const SectorSet& sectors) const;

  VolumeChange change_;
  Window window_;
  std::unique_ptr<VolumeReader> reader_;
  std::vector<tree::PutFile> files_;
  std::optional<FileTree> changed_;  // with the files
  PlacedFiles placed_;
  std::shared_ptr<const SectorSet> free_;
};

}  // namespace nuvrat::steps

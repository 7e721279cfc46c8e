#pragma once
// Sectors of a FAT volume written in place.

#include <nuvrat/rewrite.h>

#include "steps/fields.h"

namespace nuvrat::steps {

/// What a mend and a move of clusters have in common. Each of the sectors is right by itself.
struct FatChange {
  VolumeChange volume;
  std::string title;              ///< what it does, in words
  std::vector<SectorMove> moves;  ///< contents, copied before anything else
  std::vector<SectorWrite> before;
  SectorWrite change;  ///< the switch
  std::vector<SectorWrite> after;

  [[nodiscard]] std::string name() const;
};
[[nodiscard]] std::unique_ptr<Rewrite> make_fat_change(const Step& step, const FatChange& change,
                                                       const Device& device);

/// What check --repair does to a volume.
struct FatMend {
  static constexpr const char* code = "fat-mend";
  FatChange change;

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change.volume);
    f("title", self.change.title);
    f("before", self.change.before);
    f("change", self.change.change);
    f("after", self.change.after);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change.volume; }
  [[nodiscard]] std::string name() const { return change.name(); }
  [[nodiscard]] std::string touches() const {
    return "the volume's own structures, no file's contents";
  }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const {
    return make_fat_change(step, change, device);
  }
};

/// Clusters of files moved, so that what must be in one piece finds room.
struct FatMakeWay {
  static constexpr const char* code = "fat-make-way";
  FatChange change;

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("moves", self.change.moves);
    FatMend::fields(self, f);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change.volume; }
  [[nodiscard]] std::string name() const { return change.name(); }
  [[nodiscard]] std::string touches() const {
    return "free sectors, FAT and folder entries of files that move";
  }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const {
    return make_fat_change(step, change, device);
  }
};

}  // namespace nuvrat::steps

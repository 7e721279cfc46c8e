#pragma once
// Of two copies of one structure the one that is lost, written from the other: boot sectors, the
// first records of NTFS.

#include "steps/fields.h"

namespace nuvrat::steps {

/// Before the last sector is written the copy is as lost as it was. With a first boot sector a
/// volume is there again (change.from is unknown); without the others it was there all the time.
struct CopyMend {
  static constexpr const char* code = "copy-mend";
  VolumeChange change;
  std::string title;                ///< what it does, in words
  std::vector<SectorWrite> before;  ///< of NTFS's first records and their copies alone
  SectorWrite last;                 ///< the switch

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("volume", self.change);
    f("title", self.title);
    f("before", self.before);
    f("last", self.last);
  }
  [[nodiscard]] const VolumeChange* volume() const { return &change; }
  [[nodiscard]] std::string name() const { return title; }
  [[nodiscard]] std::string touches() const { return "one of two copies of a structure"; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

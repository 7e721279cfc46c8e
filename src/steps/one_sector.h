#pragma once
// One sector with one field changed.

#include "steps/fields.h"

namespace nuvrat::steps {

/// The sector, then copies of it. Neither may say anything else than the one field.
[[nodiscard]] std::unique_ptr<Rewrite> make_one_sector(std::string name, std::string purpose,
                                                       SectorWrite sector,
                                                       std::vector<std::uint64_t> copies);

/// A field of a volume's boot sector.
struct BootSector {
  static constexpr const char* code = "boot-sector";
  std::uint64_t lba = 0;
  Bytes sector;                       ///< what it becomes
  std::vector<std::uint64_t> copies;  ///< where second copies are

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("lba", self.lba);
    f("sector", self.sector);
    f("copies", self.copies);
  }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return "boot sectors"; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

/// The type of a logical partition.
struct EbrType {
  static constexpr const char* code = "ebr-type";
  std::uint64_t lba = 0;
  Bytes sector;  ///< what the EBR becomes

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("lba", self.lba);
    f("sector", self.sector);
  }
  [[nodiscard]] std::string name() const;
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

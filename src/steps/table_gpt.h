#pragma once
// An MBR becomes a GPT.

#include "steps/fields.h"
#include "table/remains.h"

namespace nuvrat::steps {

/// Both GPTs into free sectors, LBA 0 as the switch, then the EBRs go and LBA 0 loses its mark.
struct TableGpt {
  static constexpr const char* code = "table-gpt";
  std::vector<SectorRange> wipes;  ///< the old chain
  Bytes sector0;                   ///< LBA 0 as it was: its boot code stays

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("wipes", self.wipes);
    f("sector0", self.sector0);
  }
  [[nodiscard]] std::string name() const { return "MBR to GPT"; }
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
  /// LBA 0 carries the mark of a settle that was cut off, and there is a GPT.
  [[nodiscard]] static std::optional<UnfinishedStep> seen_on(const Device& device,
                                                             const TableReading& table);
};

}  // namespace nuvrat::steps

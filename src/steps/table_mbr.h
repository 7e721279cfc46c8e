#pragma once
// A new MBR: from a GPT, or with other roles and another chain.

#include "steps/fields.h"
#include "table/remains.h"

namespace nuvrat::steps {

/// A new chain of EBRs into free sectors, LBA 0 as the switch, then the old chain or the old GPT
/// goes.
struct TableMbr {
  static constexpr const char* code = "table-mbr";
  std::vector<SectorRange> wipes;  ///< the old chain or GPT, in order
  Bytes sector0;                   ///< LBA 0 as it was: what is not an entry stays
  bool new_chain = false;          ///< EBRs are written; otherwise the chain stays

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("wipes", self.wipes);
    f("sector0", self.sector0);
    f("new_chain", self.new_chain);
  }
  [[nodiscard]] std::string name() const { return new_chain ? "new MBR and chain" : "new MBR"; }
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
  /// LBA 0 carries the mark of a settle that was cut off, and there is an MBR.
  [[nodiscard]] static std::optional<UnfinishedStep> seen_on(const Device& device,
                                                             const TableReading& table);
};

}  // namespace nuvrat::steps

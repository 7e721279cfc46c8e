#pragma once
// The second half of a change inside a GPT: from the second array back to LBA 2.

#include "steps/fields.h"
#include "table/remains.h"

namespace nuvrat::steps {

/// Entries to LBA 2 and the backup to the end, none of which counts now; LBA 1 as the switch; then
/// the second array is wiped.
struct GptHome {
  static constexpr const char* code = "gpt-home";
  std::vector<SectorRange> wipes;  ///< the second array

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("wipes", self.wipes);
  }
  [[nodiscard]] std::string name() const { return "GPT back to its own place"; }
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
  /// The copies differ, and the live array is a second one: this half is still to be done.
  [[nodiscard]] static std::optional<UnfinishedStep> seen_on(const Device& device,
                                                             const TableReading& table);
};

}  // namespace nuvrat::steps

#pragma once
// A damaged or missing copy of a GPT, or its protective MBR, written anew from the good copy.

#include "steps/fields.h"

namespace nuvrat::steps {

/// Of two copies one is good and stays as it is until the other is. A damaged primary: its entries,
/// then LBA 1 as the switch, then the backup anew. A good primary: the backup, then LBA 1, which
/// names it. Last of all LBA 0 protects the disk.
struct GptMend {
  static constexpr const char* code = "gpt-mend";
  bool primary = false;  ///< the primary is the damaged one
  bool backup = false;   ///< the backup is; with neither, only LBA 0 is written anew
  Bytes sector0;         ///< LBA 0 as it was: its boot code stays

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("primary", self.primary);
    f("backup", self.backup);
    f("sector0", self.sector0);
  }
  [[nodiscard]] std::string name() const { return "GPT mended"; }
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

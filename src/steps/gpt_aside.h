#pragma once
// The first half of a change inside a GPT: the changed table in a second array.

#include "steps/fields.h"

namespace nuvrat::steps {

/// The changed entries into a second array, LBA 1 as the switch. The first usable sector of the
/// target is after the second array, so that strict readers take it at every moment.
struct GptAside {
  static constexpr const char* code = "gpt-aside";
  std::uint64_t lba = 0;  ///< of the second array

  template <typename Self, typename Fields>
  static void fields(Self& self, Fields& f) {
    f("lba", self.lba);
  }
  [[nodiscard]] std::string name() const { return "changed GPT in a second array"; }
  [[nodiscard]] std::string touches() const { return ""; }
  [[nodiscard]] std::unique_ptr<Rewrite> make(const Step& step, const Device& device) const;
};

}  // namespace nuvrat::steps

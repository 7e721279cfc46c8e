#pragma once
// Findings of one check: of each rule the first few in full, the rest as a number, so that a volume
// in ruins doesn't fill the memory with complaints.

#include <concepts>
#include <map>
#include <string>

#include <fmt/core.h>

#include <nuvrat/finding.h>

namespace nuvrat::base {

class FindingLog {
 public:
  static constexpr std::uint64_t listed = 16;

  void add(Rule code, Severity severity, Place place, std::string text, bool repairable = false) {
    add(
        code, severity, [&place] { return std::move(place); }, std::move(text), repairable);
  }

  /// The place is asked for only where the finding is kept: a path takes as long as it is deep.
  template <std::invocable Where>
  void add(Rule code, Severity severity, Where where, std::string text, bool repairable = false) {
    if (++counts_[code] > listed) return;
    findings_.push_back({code, severity, where(), std::move(text), repairable});
  }

  /// What is kept so far, without the numbers of the rest.
  [[nodiscard]] const Findings& kept() const { return findings_; }

  [[nodiscard]] Findings take() {
    for (Finding& f : findings_) {
      std::uint64_t& count = counts_[f.code];
      if (count > listed) f.text += fmt::format(" (the first of {} of this kind)", count);
      count = 0;  // said once
    }
    return std::move(findings_);
  }

 private:
  Findings findings_;
  std::map<Rule, std::uint64_t> counts_;
};

}  // namespace nuvrat::base

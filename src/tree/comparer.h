#pragma once
// What was recorded held against a manifest, with what is expected to differ.

#include <nuvrat/expected_change.h>

#include "tree/recording.h"

namespace nuvrat {

/// Without the seals, which take as long again.
[[nodiscard]] Comparison compare_with_changes(const Recording& before, const Manifest& after,
                                              AccessTimes accessed,
                                              const std::vector<ExpectedChange>& changes);
/// The same with them; by places there are none.
[[nodiscard]] Comparison with_seals(Comparison comparison, const Recording& before,
                                    const Manifest& after);

/// Both; see compare_expected.
[[nodiscard]] Comparison compare_recorded(const Recording& expected, const Manifest& after,
                                          const std::vector<ExpectedChange>& changes);

/// The kind of difference that an expected change is, and what is said of it.
[[nodiscard]] DifferenceKind kind_of(ExpectedChange::Kind kind);
[[nodiscard]] std::string words_of(const ExpectedChange& change);

}  // namespace nuvrat

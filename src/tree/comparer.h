#pragma once
// Two manifests held against each other, with what is expected to differ.

#include <nuvrat/expected_change.h>

namespace nuvrat {

[[nodiscard]] Comparison compare_with_changes(const Manifest& before, const Manifest& after,
                                              AccessTimes accessed,
                                              const std::vector<ExpectedChange>& changes);

}  // namespace nuvrat

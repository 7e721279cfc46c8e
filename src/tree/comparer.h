#pragma once
// A comparison of what was recorded with a manifest, with what is expected to differ.

#include <nuvrat/expected_change.h>

#include "tree/recording.h"

namespace nuvrat::tree {

/// Without the seals, which take as long again.
[[nodiscard]] Comparison compare_with_changes(const Recording& before, const Manifest& after,
                                              AccessTimes accessed, const Expectation& expectation);
/// The same with them; by places there are none. `seal`: of `after`, where it is known.
[[nodiscard]] Comparison with_seals(Comparison comparison, const Recording& before,
                                    const Manifest& after, const std::string& seal = "");

/// Names, sizes, times and attributes of two trees that the same reader made: the first node that
/// differs, the root where one tree has more nodes, or FileTree::none.
[[nodiscard]] FileTree::Id first_difference(const FileTree& a, const FileTree& b);

/// The kind of difference that an expected change is, and what is said of it; `start`: where the
/// partition began.
[[nodiscard]] DifferenceKind kind_of(ExpectedChange::Kind kind);
[[nodiscard]] std::string words_of(const ExpectedChange& change, std::uint64_t start);

}  // namespace nuvrat::tree

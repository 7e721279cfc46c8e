#pragma once
// What was asked for, to be looked up by kind of goal and number.

#include <algorithm>
#include <vector>

#include <nuvrat/goal.h>

namespace nuvrat::goals {

/// The number of the partition or gap that a goal is about; 0: the disk, or its one volume.
template <typename Kind>
[[nodiscard]] unsigned number_of(const Kind& goal) {
  if constexpr (requires { goal.partition; }) {
    return goal.partition;
  } else if constexpr (requires { goal.gap; }) {
    return goal.gap;
  } else {
    return 0;
  }
}

/// At most one goal of a kind about one thing. A value.
class Asked {
 public:
  Asked() = default;
  /// Throws Error (words) for two that contradict each other about one thing. What was said twice
  /// is there once.
  explicit Asked(const std::vector<Goal>& goals);

  [[nodiscard]] const std::vector<Goal>& all() const { return goals_; }
  /// Null where there is none.
  template <typename Kind>
  [[nodiscard]] const Kind* find(unsigned number = 0) const {
    for (const Goal& goal : goals_) {
      if (const Kind* kind = goal.as<Kind>(); kind != nullptr && number_of(*kind) == number)
        return kind;
    }
    return nullptr;
  }
  /// All of one kind, by number.
  template <typename Kind>
  [[nodiscard]] std::vector<Kind> every() const {
    std::vector<Kind> out;
    for (const Goal& goal : goals_) {
      if (const Kind* kind = goal.as<Kind>()) out.push_back(*kind);
    }
    std::sort(out.begin(), out.end(),
              [](const Kind& a, const Kind& b) { return number_of(a) < number_of(b); });
    return out;
  }
  [[nodiscard]] bool has(GoalStage stage) const;
  /// Of a stage of which that is true.
  [[nodiscard]] bool any(bool (*of)(GoalStage)) const {
    return std::any_of(goals_.begin(), goals_.end(),
                       [of](const Goal& goal) { return of(goal.stage()); });
  }
  [[nodiscard]] bool is_gone(unsigned partition) const {
    return find<GoneGoal>(partition) != nullptr;
  }
  /// Goals that follow from others. Throws as the constructor.
  void add(const Goal& goal);

 private:
  std::vector<Goal> goals_;
};

/// Throws Error (words) where the goals contradict each other, or make no sense on a disk with a
/// table of this kind.
void require_sense(const Asked& asked, TableKind table);

}  // namespace nuvrat::goals

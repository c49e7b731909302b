#pragma once

namespace zavrek::emt::internal {

inline constexpr double never_s = 1e300;  // an instant that does not come

/// How a part's history current follows from its past. `trapezoidal` spans a whole step, `half_euler`
/// half of one by backward Euler; both have the same conductance, so the factors serve both.
enum class Rule { trapezoidal, half_euler };

/// The rules as numbers, so that one loop, warm in the processor's caches, serves both: what of the past
/// enters the history current h of a series block (G v' voltage - G u' charge + K i' kept + i' own) and of a
/// capacitance (-G v' - i' before), and what of i' a series capacitor's voltage carries on (before).
struct Weights {
  double voltage, charge, kept, own, before;
};
[[nodiscard]] constexpr Weights weights_of(Rule rule) {
  return rule == Rule::trapezoidal ? Weights{1, 2, 1, 0, 1} : Weights{0, 1, 0.5, 0.5, 0};
}

}  // namespace zavrek::emt::internal

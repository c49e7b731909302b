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

/// What stands so many steps behind an event, at most one, from three half steps of backward Euler behind it.
/// Their slopes x' are weighed so that what changes on a line of them is met, and what decays at once is
/// gone,
///   x(s) = x0 + b1 x1' + b2 x2' + b3 x3',   b1 + b2 + b3 = s,   (b1 + 2 b2 + 3 b3) h/2 = s^2/2,   b1 = h/2,
/// which is x1 and shares of the two changes behind it. What follows from states follows them. Slopes lie on
/// the line through those of the last two half steps, so that nothing of an impulse at the event is carried
/// on. Where switches make states jump, what decays fast but not at once would ring on: there states stand on
/// the line from x1 to x2 (`damped`).
struct Behind {
  double second, third;  // shares of x2 - x1 and x3 - x2
  Behind(double steps, bool damped)
      : second(damped ? 2 * steps - 1 : 2 * (3 * steps - 1 - steps * steps)),
        third(damped ? 0 : 2 * (steps * steps - 2 * steps + 0.5)) {}
  /// As much of the change of a slope from the second half step to the third.
  [[nodiscard]] static double sloping(double steps) { return 2 * (steps - 1); }
};

/// Values that slopes follow from, and how much these count.
struct Sloped {
  double weight;
  const double* values;
};

}  // namespace zavrek::emt::internal

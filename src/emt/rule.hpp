#pragma once

namespace zavrek::emt::internal {

/// How a part's history current follows from its past. `trapezoidal` spans a whole step, `half_euler`
/// half of one by backward Euler; both have the same conductance, so the factors serve both.
enum class Rule { trapezoidal, half_euler };

}  // namespace zavrek::emt::internal

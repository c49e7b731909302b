#pragma once

#include <cstddef>
#include <vector>

namespace zavrek::emt::internal {

/// Enters history currents (A, from p to q, positions of nodes) into the right-hand side; nodes below `floor`
/// have no equation.
inline void enter_histories(const std::vector<int>& p, const std::vector<int>& q,
                            const std::vector<double>& history, double* rhs, int floor) noexcept {
  for (std::size_t k = 0; k < p.size(); ++k) {
    if (p[k] >= floor) rhs[p[k]] -= history[k];
    if (q[k] >= floor) rhs[q[k]] += history[k];
  }
}

}  // namespace zavrek::emt::internal

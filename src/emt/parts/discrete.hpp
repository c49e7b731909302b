#pragma once

#include <cmath>
#include <complex>

namespace zavrek::emt::internal {

/// What the trapezoidal rule makes of d/dt of a sinusoid: j (2/h) tan(omega h / 2).
[[nodiscard]] inline std::complex<double> discrete_derivative(double omega, double step_s) {
  return {0, 2 / step_s * std::tan(omega * step_s / 2)};
}

}  // namespace zavrek::emt::internal

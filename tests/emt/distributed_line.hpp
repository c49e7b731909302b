#pragma once

#include <cmath>
#include <complex>

#include <Eigen/Core>

#include "emt/solve/dense.hpp"
#include "zavrek/emt/line_constants.hpp"

namespace zavrek::test {

/// The two-port of a line by its length: exp of [0, -Z; -Y, 0] on far voltages and currents, by halving the
/// length until the series is short, then squaring.
inline Eigen::MatrixXcd chain_of(const emt::LineConstants& constants, double omega, double length_m) {
  using Complex = std::complex<double>;
  const int n = static_cast<int>(constants.phases.size());
  Eigen::MatrixXcd a = Eigen::MatrixXcd::Zero(2 * n, 2 * n);
  for (int r = 0; r < n; ++r) {
    for (int c = 0; c < n; ++c) {
      const auto at = static_cast<std::size_t>(r * n + c);
      a(r, n + c) = constants.series_ohm_per_m[at] * length_m;
      a(n + r, c) = Complex(0, omega * constants.capacitance_F_per_m[at]) * length_m;
    }
  }
  constexpr int halvings = 16;
  a /= std::pow(2.0, halvings);
  // The core's own product: one made here, without optimisation, the linker would give the core too.
  using emt::internal::product;
  const Eigen::MatrixXcd one = Eigen::MatrixXcd::Identity(2 * n, 2 * n);
  Eigen::MatrixXcd result =
      one + product(a, Eigen::MatrixXcd(one + product(a, Eigen::MatrixXcd(one + a / 3)) / 2));
  for (int k = 0; k < halvings; ++k) result = product(result, result);
  return result;
}

}  // namespace zavrek::test

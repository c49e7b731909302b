// The modes of a network: the eigenvalues of its continuous equations.
#include <algorithm>
#include <cmath>
#include <complex>

#include <Eigen/Core>

#include "emt/reference/continuous.hpp"
#include "emt/solve/dense.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {

using internal::Continuous;

std::vector<Mode> modes(const network::Network& network) {
  Continuous equations(network);
  equations.arrange();
  const int n = equations.size();
  std::vector<double> y(static_cast<std::size_t>(n)), dy(y.size(), 0.0), f0(y.size()), f1(y.size());
  equations.start(y.data());
  equations.residual(0, y.data(), dy.data(), f0.data());
  Eigen::MatrixXd stiffness(n, n), mass(n, n);
  for (int k = 0; k < n; ++k) {
    const auto at = static_cast<std::size_t>(k);
    const double d = 1e-4 * equations.scales()[at], kept = y[at];
    y[at] += d;
    equations.residual(0, y.data(), dy.data(), f1.data());
    y[at] = kept;
    for (int r = 0; r < n; ++r)
      stiffness(r, k) = (f1[static_cast<std::size_t>(r)] - f0[static_cast<std::size_t>(r)]) / d;
    const double rate = 1e3 * equations.scales()[at];
    dy[at] = rate;
    equations.residual(0, y.data(), dy.data(), f1.data());
    dy[at] = 0;
    for (int r = 0; r < n; ++r)
      mass(r, k) = (f1[static_cast<std::size_t>(r)] - f0[static_cast<std::size_t>(r)]) / rate;
  }
  // (s M + K) x = 0 as K^-1 M x = -(1/s) x: modes without an end (s infinite) become zeros, which are left
  // out.
  const internal::Decomposition solved = internal::decompose(internal::solve(stiffness, mass), true);
  std::vector<Mode> found;
  const double largest = solved.values.cwiseAbs().maxCoeff();
  for (Eigen::Index k = 0; k < n; ++k) {
    const std::complex<double> mu = solved.values[k];
    if (std::abs(mu) < 1e-9 && std::abs(mu) < 1e-12 * largest) continue;
    if (std::abs(mu) < 1e-10 || mu.imag() > 0) continue;  // one of each pair
    Eigen::Index most = 0;
    Eigen::VectorXd part = solved.vectors.col(k).cwiseAbs();
    for (Eigen::Index r = 0; r < n; ++r) part[r] /= equations.scales()[static_cast<std::size_t>(r)];
    part.maxCoeff(&most);
    found.push_back({-1.0 / mu, equations.owner(static_cast<int>(most))});
  }
  std::sort(found.begin(), found.end(),
            [](const Mode& a, const Mode& b) { return std::abs(a.s) > std::abs(b.s); });
  return found;
}

}  // namespace zavrek::emt

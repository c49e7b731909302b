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
  Eigen::VectorXd y(n), dy = Eigen::VectorXd::Zero(n);
  const auto residual = [&] {
    Eigen::VectorXd f(n);
    equations.residual(0, y.data(), dy.data(), f.data());
    return f;
  };
  equations.start(y.data());
  const Eigen::VectorXd at_start = residual();
  Eigen::MatrixXd stiffness(n, n), mass(n, n);
  for (int k = 0; k < n; ++k) {
    const double scale = equations.scales()[static_cast<std::size_t>(k)], kept = y[k];
    y[k] += 1e-4 * scale;
    stiffness.col(k) = (residual() - at_start) / (1e-4 * scale);
    y[k] = kept;
    dy[k] = 1e3 * scale;
    mass.col(k) = (residual() - at_start) / (1e3 * scale);
    dy[k] = 0;
  }
  // (s M + K) x = 0 as K^-1 M x = -(1/s) x: modes without an end (s infinite) become zeros, which are left
  // out.
  const internal::Decomposition solved = internal::decompose(internal::solve(stiffness, mass), true);
  std::vector<Mode> found;
  const double largest = solved.values.cwiseAbs().maxCoeff();
  for (Eigen::Index k = 0; k < n; ++k) {
    const std::complex<double> mu = solved.values[k];
    if (std::abs(mu) < 1e-9 && std::abs(mu) < 1e-12 * largest) continue;
    // One of each pair; what decays within nanoseconds cannot be told from the rounding of what has no end.
    if (std::abs(mu) < 1e-8 || mu.imag() > 0) continue;
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

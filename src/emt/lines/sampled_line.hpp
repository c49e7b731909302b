#pragma once

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <vector>

#include <Eigen/Core>

#include "zavrek/emt/frequency_line.hpp"
#include "zavrek/emt/line_constants.hpp"

namespace zavrek::emt::internal {

/// Per metre, of a geometry at a frequency.
struct SampledLine {
  Eigen::MatrixXcd series;      // ohm
  Eigen::MatrixXd capacitance;  // F
};

[[nodiscard]] inline SampledLine sample_line(const network::LineGeometry& geometry, double frequency_Hz) {
  const LineConstants c = line_constants_at(geometry, frequency_Hz);
  const auto n = static_cast<Eigen::Index>(c.phases.size());
  SampledLine s{Eigen::MatrixXcd(n, n), Eigen::MatrixXd(n, n)};
  for (Eigen::Index k = 0; k < n * n; ++k) {
    s.series.data()[k] = c.series_ohm_per_m[static_cast<std::size_t>(k)];
    s.capacitance.data()[k] = c.capacitance_F_per_m[static_cast<std::size_t>(k)];
  }
  return s;
}

/// Angular frequencies of a fit, evenly spread over its decades.
[[nodiscard]] inline std::vector<double> fit_frequencies(const FrequencyLineOptions& options,
                                                         int per_decade) {
  std::vector<double> omega;
  const double decades = std::log10(options.to_Hz / options.from_Hz);
  const int count = std::max(2 * options.poles + 4, static_cast<int>(per_decade * decades));
  for (int k = 0; k <= count; ++k)
    omega.push_back(2 * std::numbers::pi * options.from_Hz * std::pow(10, decades * k / count));
  return omega;
}

/// Phase delay of the fastest part of a wave that still arrives with the share `arrives`.
[[nodiscard]] inline double delay_of(const std::vector<double>& omega,
                                     const std::vector<std::complex<double>>& gamma, double length_m,
                                     double arrives) {
  double delay = 1e300;
  for (std::size_t k = 0; k < omega.size(); ++k) {
    if (std::exp(-gamma[k].real() * length_m) > arrives)
      delay = std::min(delay, gamma[k].imag() * length_m / omega[k]);
  }
  return delay;
}

/// The highest frequency at which it does; the lowest of all when it never does.
[[nodiscard]] inline double top_of(const std::vector<double>& omega,
                                   const std::vector<std::complex<double>>& gamma, double length_m,
                                   double arrives) {
  double top = omega.front();
  for (std::size_t k = 0; k < omega.size(); ++k) {
    if (std::exp(-gamma[k].real() * length_m) > arrives) top = omega[k];
  }
  return top;
}

}  // namespace zavrek::emt::internal

// Fitting: per mode Yc = sqrt(y/z) and H = exp(-sqrt(z y) l), z = modal series impedance from the geometry at
// each frequency, y = j w C. H is divided by its delay before it is fitted, so that a few smooth terms
// suffice.
#include "zavrek/emt/frequency_line.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <Eigen/Core>

#include "emt/lines/modal.hpp"
#include "emt/lines/sampled_line.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt {
namespace {

using Complex = std::complex<double>;
constexpr double transformation_Hz = 5000;
constexpr int samples_per_decade = 20;

/// Propagation with the delay that makes it easiest to fit: a causal function that falls towards the top of
/// the range has some lag left there. What hardly arrives is left to vanish by itself.
void fit_propagation(FittedMode& mode, const std::vector<double>& omega, const std::vector<Complex>& gamma,
                     const FrequencyLineOptions& options) {
  constexpr double worth_fitting = 0.003, arrives = 0.03;
  const double earliest = internal::delay_of(omega, gamma, options.length_m, arrives);
  const double top = internal::top_of(omega, gamma, options.length_m, arrives);
  mode.propagation.error = 1e300;
  for (const double lag : {0.0, 0.2, 0.4, 0.7, 1.0, 1.5}) {
    const double delay = earliest - lag / top;
    std::vector<double> at;
    std::vector<Complex> h;
    for (std::size_t k = 0; k < omega.size(); ++k) {
      const Complex value = std::exp(-gamma[k] * options.length_m + Complex(0, omega[k] * delay));
      if (std::abs(value) < worth_fitting) continue;
      at.push_back(omega[k]);
      h.push_back(value);
    }
    for (const bool pairs : {false, true}) {
      RationalFit fit = vector_fit(at, h, {.poles = options.poles, .constant = false, .pairs = pairs});
      if (fit.error >= mode.propagation.error) continue;
      mode.propagation = std::move(fit);
      mode.delay_s = delay;
    }
  }
}

void check_passivity(FittedMode& mode, const std::vector<double>& omega) {
  mode.least_real_S = 1e300;
  for (double w = omega.front() / 10; w < omega.back() * 10; w *= 1.05) {
    mode.least_real_S = std::min(mode.least_real_S, mode.admittance(Complex(0, w)).real());
    mode.largest_propagation = std::max(mode.largest_propagation, std::abs(mode.propagation(Complex(0, w))));
  }
}

}  // namespace

bool FrequencyLine::passive() const {
  return std::all_of(modes.begin(), modes.end(), [](const FittedMode& m) {
    return m.least_real_S > 0 && m.largest_propagation <= 1 + 1e-3;
  });
}

std::complex<double> propagation_of(const network::LineGeometry& given, const FrequencyLine& line,
                                    std::size_t mode, double length_m, double frequency_Hz) {
  network::LineGeometry geometry = given;
  geometry.earth = "complex depth";
  const internal::SampledLine s = internal::sample_line(geometry, frequency_Hz);
  Complex z = 0;
  for (Eigen::Index r = 0; r < s.series.rows(); ++r) {
    for (Eigen::Index c = 0; c < s.series.cols(); ++c) {
      const auto n = static_cast<std::size_t>(line.phases);
      z += line.currents[static_cast<std::size_t>(r) * n + mode] * s.series(r, c) *
           line.currents[static_cast<std::size_t>(c) * n + mode];
    }
  }
  const double omega = 2 * std::numbers::pi * frequency_Hz;
  return std::exp(-std::sqrt(z * Complex(0, omega)) * length_m +
                  Complex(0, omega * line.modes[mode].delay_s));
}

FrequencyLine fit_line(const network::LineGeometry& given, const FrequencyLineOptions& options) {
  network::LineGeometry geometry = given;
  geometry.earth = "complex depth";  // two terms of Carson's series hold at low frequency alone
  const internal::SampledLine base = internal::sample_line(geometry, transformation_Hz);
  const auto n = base.series.rows();
  const Eigen::MatrixXd inductance = base.series.imag() / (2 * std::numbers::pi * transformation_Hz);
  const internal::ModalTransformation modal = internal::modal_transformation(inductance, base.capacitance);

  const Eigen::MatrixXd &voltages = modal.voltages, &currents = modal.currents;
  const Eigen::MatrixXcd from_modes = currents.cast<std::complex<double>>(),
                         to_modes = from_modes.transpose();
  const std::vector<double> omega = internal::fit_frequencies(options, samples_per_decade);
  std::vector<std::vector<Complex>> impedance(static_cast<std::size_t>(n));
  for (const double w : omega) {
    const Eigen::MatrixXcd series = internal::sample_line(geometry, w / (2 * std::numbers::pi)).series;
    const Eigen::VectorXcd z = internal::product(to_modes, internal::product(series, from_modes)).diagonal();
    for (Eigen::Index m = 0; m < n; ++m) impedance[static_cast<std::size_t>(m)].push_back(z[m]);
  }

  FrequencyLine line;
  line.phases = static_cast<int>(n);
  for (Eigen::Index r = 0; r < n; ++r) {
    for (Eigen::Index c = 0; c < n; ++c) {
      line.voltages.push_back(voltages(r, c));
      line.currents.push_back(currents(r, c));
    }
  }
  for (const std::vector<Complex>& z : impedance) {
    std::vector<Complex> yc, gamma;
    for (std::size_t k = 0; k < omega.size(); ++k) {
      const Complex y(0, omega[k]);  // the mode's capacitance is 1 per metre
      gamma.push_back(std::sqrt(z[k] * y));
      yc.push_back(std::sqrt(y / z[k]));
    }
    FittedMode mode;
    mode.admittance = vector_fit(omega, yc, {.poles = options.poles, .constant = true, .relative = true});
    fit_propagation(mode, omega, gamma, options);
    check_passivity(mode, omega);
    line.modes.push_back(std::move(mode));
  }
  return line;
}

}  // namespace zavrek::emt

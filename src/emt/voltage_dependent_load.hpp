// A load whose power depends on its voltage: per phase P(U) = P0 (z U^2 + c U + p), Q alike, z + c + p = 1, U
// the measured rms over the nominal. A conductance g in parallel with an inductance 1/b (or a capacitance b)
// stands for it; the network sees the nominal one, the difference is a current from the extrapolated voltage,
//   i = (g0 + b0 terms) v + (k - 1)(g0 v + b0 terms),   k = z + c/U + p/U^2,
// and U^2 follows (v^2 + (w flux)^2)/2 with the load's response time: of a sinusoid the two terms add up to
// its mean square without a ripple, which v^2 alone would pass on to the current as a change of its
// fundamental. The flux of the inductance leaks with one second, so that no direct current stays; what that
// costs at the nominal frequency is taken off g0.
#pragma once

#include <algorithm>
#include <cmath>
#include <vector>

#include "emt/discrete.hpp"
#include "emt/model.hpp"

namespace zavrek::emt::internal {

class VoltageDependentLoad : public Model {
 public:
  struct Values {
    double active_W = 0, reactive_var = 0;  // per end
    double nominal_V = 1;                   // rms across an end
    double omega = 1;
    double current_share = 0, power_share = 0;
    double response_s = 0.02, least = 0.7;
  };

  VoltageDependentLoad(int ends, const Values& values)
      : n_(ends), values_(values), rates_(static_cast<std::size_t>(ends)) {
    const double square = values.nominal_V * values.nominal_V;
    const double susceptance = values.reactive_var / square;
    conductance_ = values.active_W / square;
    if (susceptance >= 0) {
      inverse_inductance_ = susceptance * (values.omega * values.omega + leak * leak) / values.omega;
      conductance_ -= inverse_inductance_ * leak / (values.omega * values.omega + leak * leak);
    } else {
      capacitance_ = -susceptance / values.omega;
    }
  }

  // Per end: current, voltage before, flux, mean square, current of the nominal capacitance.
  [[nodiscard]] int slots() const override { return 5 * n_; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    const double d = step_s / 2;
    const double g = conductance_ + inverse_inductance_ * d / (1 + d * leak) + capacitance_ / d;
    return g * Eigen::MatrixXd::Identity(n_, n_);
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    return nominal(s) * Eigen::MatrixXcd::Identity(n_, n_);
  }
  Eigen::VectorXcd injection(const Eigen::VectorXcd& v) override {
    Eigen::VectorXcd j(n_);
    for (Eigen::Index k = 0; k < n_; ++k)
      j[k] = (factor(std::norm(v[k]) / 2) - 1) * nominal(std::complex<double>(0, values_.omega)) * v[k];
    return j;
  }
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override {
    const std::complex<double> s(0, values_.omega);
    for (Eigen::Index k = 0; k < n_; ++k) {
      values[places.first + k] = i[k].real();
      values[places.first + n_ + k] = (v[k] * std::polar(1.0, -values_.omega * step_s)).real();
      values[places.first + 2 * n_ + k] = (v[k] / (s + leak)).real();
      values[places.first + 3 * n_ + k] = std::norm(v[k]) / 2;
      values[places.first + 4 * n_ + k] =
          (discrete_derivative(values_.omega, step_s) * capacitance_ * v[k]).real();
    }
  }

  [[nodiscard]] States states() const override {
    return {.known = true, .first = 2 * n_, .count = 2 * n_, .capacitive = capacitance_ > 0};
  }
  void take_rates(const double* rates) noexcept override { std::copy_n(rates, n_, rates_.begin()); }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    double* slots = values + places.first;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, values, k), flux = slots[2 * n_ + k], square = slots[3 * n_ + k];
      slots[k] = currents[k] = factor(square) * (conductance_ * v + inverse_inductance_ * flux +
                                                 capacitance_ * rates_[static_cast<std::size_t>(k)]);
      slopes[k] = v - leak * flux;
      const double quadrature = values_.omega * flux;
      slopes[n_ + k] = ((v * v + quadrature * quadrature) / 2 - square) / values_.response_s;
    }
  }

  bool begin(const Stretch& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    const double d = stretch.step_s / 2;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, old, k);
      const double* slots = old + places.first;
      const double before = slots[n_ + k], flux = slots[2 * n_ + k];
      const double more = factor(slots[3 * n_ + k]) - 1;
      // Nominal part: flux1 (1 + d leak) = flux0 (1 - d leak) + d (v0 + v1), or the Euler form.
      const double kept = (whole ? flux * (1 - d * leak) + d * v : flux) / (1 + d * leak);
      double j = inverse_inductance_ * kept;
      if (capacitance_ > 0) j -= capacitance_ / d * v + (whole ? slots[4 * n_ + k] : 0);
      // The rest, from what the voltage will be.
      const double ahead = whole ? 2 * v - before : v + 0.5 * (v - before);
      const double slope = (ahead - v) / stretch.length_s();
      j += more * (conductance_ * ahead + inverse_inductance_ * (kept + d / (1 + d * leak) * ahead) +
                   capacitance_ * slope);
      history[k] = j;
    }
    (void)conductance;
    return false;
  }
  void end(const Stretch& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    const double d = stretch.step_s / 2;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, now, k), v0 = across(places, old, k);
      double* slots = now + places.first;
      const double* before = old + places.first;
      slots[k] = history[k] + conductance[k * n_ + k] * v;
      slots[n_ + k] = v0;
      const double kept =
          (whole ? before[2 * n_ + k] * (1 - d * leak) + d * v0 : before[2 * n_ + k]) / (1 + d * leak);
      slots[2 * n_ + k] = kept + d / (1 + d * leak) * v;
      slots[4 * n_ + k] = capacitance_ / d * (v - v0) - (whole ? before[4 * n_ + k] : 0);
      const double square = before[3 * n_ + k];
      const double across_time = values_.omega * slots[2 * n_ + k];
      slots[3 * n_ + k] = square + ((v * v + across_time * across_time) / 2 - square) *
                                       (1 - std::exp(-stretch.length_s() / values_.response_s));
    }
  }

 private:
  static constexpr double leak = 1;  // 1/s

  [[nodiscard]] static double across(const Places& places, const double* values, int k) noexcept {
    return values[places.p[static_cast<std::size_t>(k)]] - values[places.q[static_cast<std::size_t>(k)]];
  }
  [[nodiscard]] std::complex<double> nominal(std::complex<double> s) const {
    return conductance_ + inverse_inductance_ / (s + leak) + s * capacitance_;
  }
  /// Admittance over the nominal one at a mean square of the voltage.
  [[nodiscard]] double factor(double mean_square) const noexcept {
    const double u = std::sqrt(mean_square) / values_.nominal_V;
    const double held = std::max(u, values_.least);
    const double c = values_.current_share, p = values_.power_share;
    return 1 - c - p + c / held + p / (held * held);
  }

  int n_;
  Values values_;
  double conductance_ = 0, inverse_inductance_ = 0, capacitance_ = 0;
  std::vector<double> rates_;  // dv/dt across the ends, of the reference
};

}  // namespace zavrek::emt::internal

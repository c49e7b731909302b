// A load whose power depends on its voltage: per phase P(U) = P0 (z U^2 + c U + p), Q alike, z + c + p = 1, U
// the measured rms over the nominal. A conductance g in parallel with an inductance 1/b or a capacitance C
// stands for it; the network sees K times the conductance and the inductance, the difference is a current
// from the voltage that is to come,
//   i = K (g v + b flux) + C dv/dt + (k - K)(g v' + b flux') + (k - 1) C w',   k = z + c/U + p/U^2.
// What is predicted feeds back on the voltage: with nothing but the load on an inductance it returns (k -
// K)/K times, so K lies in the middle of what k can be. v' is v and the flux, its quadrature, turned on by a
// step: true for the fundamental, and not more than v where v alternates from step to step. (2 v less the
// voltage before is three times that, and made loads of constant power ring in a dip of a fifth.) w' is the
// rate of the fundamental from the same two: a rate taken from past voltages, being late, is a negative
// conductance where the capacitance resonates. U^2 follows (v^2 + q^2)/2 with the load's response time, q at
// right angles to v: of a sinusoid the two add up to its mean square without a ripple, which v^2 alone would
// pass on to the current as a change of its fundamental. The flux leaks, so that what a step of the voltage
// leaves in it is gone in some cycles; what that costs at the nominal frequency is taken off g, half of it at
// most.
#pragma once

#include <algorithm>
#include <cmath>
#include <vector>

#include "emt/parts/discrete.hpp"
#include "emt/parts/model.hpp"

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
    const double square = values.nominal_V * values.nominal_V, omega = values.omega;
    const double susceptance = values.reactive_var / square;
    conductance_ = values.active_W / square;
    leak_ = std::min(omega / 5, std::max(slowest_leak, omega * conductance_ / (2 * std::abs(susceptance))));
    if (susceptance >= 0) {
      inverse_inductance_ = susceptance * (omega * omega + leak_ * leak_) / omega;
      conductance_ -= susceptance * leak_ / omega;
    } else {
      capacitance_ = -susceptance / omega;
    }
    middle_ = (factor(0) + factor(highest * highest * square)) / 2;
  }

  // Per end: current, flux, mean square, current of the capacitance.
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<VoltageDependentLoad>(*this);
  }
  [[nodiscard]] int slots() const override { return 4 * n_; }
  [[nodiscard]] std::pair<int, int> charging_slots() const override { return {3 * n_, n_}; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    const double d = step_s / 2;
    const double g = middle_ * (conductance_ + inverse_inductance_ * d / (1 + d * leak_)) + capacitance_ / d;
    return g * Eigen::MatrixXd::Identity(n_, n_);
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    const auto shares = [](const Ahead& to) {
      return Eigen::Vector4d(to.of_voltage, to.of_flux, to.rate_of_voltage, to.rate_of_flux);
    };
    return WrittenLaw{.kind = "dependent_load",
                      .numbers = {{"conductance", conductance_},
                                  {"inverse_inductance", inverse_inductance_},
                                  {"capacitance", capacitance_},
                                  {"leak", leak_},
                                  {"middle", middle_},
                                  {"nominal", values_.nominal_V},
                                  {"current_share", values_.current_share},
                                  {"power_share", values_.power_share},
                                  {"least", values_.least},
                                  {"response", values_.response_s},
                                  {"in_phase", in_phase_},
                                  {"across", across_}},
                      .arrays = {{"whole", shares(whole_)}, {"half", shares(half_)}}};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    return nominal(s) * Eigen::MatrixXcd::Identity(n_, n_);
  }
  Eigen::VectorXcd injection(const Eigen::VectorXcd& v, std::complex<double> s) override {
    Eigen::VectorXcd j(n_);
    for (Eigen::Index k = 0; k < n_; ++k) j[k] = (factor(std::norm(v[k]) / 2) - 1) * nominal(s) * v[k];
    return j;
  }
  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override {
    const std::complex<double> s = discrete_derivative(values_.omega, step_s);
    whole_ = ahead_by(step_s, s);
    half_ = ahead_by(step_s / 2, s);
    now_ = ahead_by(0, s);
    const std::complex<double> flux = 1.0 / (s + leak_);
    in_phase_ = flux.real();
    across_ = -flux.imag();
    for (Eigen::Index k = 0; k < n_; ++k) {
      values[places.first + k] = i[k].real();
      values[places.first + n_ + k] = (v[k] * flux).real();
      values[places.first + 2 * n_ + k] = std::norm(v[k]) / 2;
      values[places.first + 3 * n_ + k] = (s * capacitance_ * v[k]).real();
    }
  }

  [[nodiscard]] States states() const override {
    return {.known = true, .first = n_, .count = 2 * n_, .capacitive = capacitance_ > 0};
  }
  void take_rates(const double* rates) noexcept override { std::copy_n(rates, n_, rates_.begin()); }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    double* slots = values + places.first;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, values, k), flux = slots[n_ + k], square = slots[2 * n_ + k];
      const double share = factor(square);
      slots[k] = currents[k] =
          share * (conductance_ * v + inverse_inductance_ * flux) +
          capacitance_ * (rates_[static_cast<std::size_t>(k)] +
                          (share - 1) * (now_.rate_of_voltage * v + now_.rate_of_flux * flux));
      slopes[k] = v - leak_ * flux;
      slopes[n_ + k] = (size(v, flux) - square) / values_.response_s;
    }
  }

  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    const double d = stretch.step_s / 2;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, old, k);
      const double* slots = old + places.first;
      const double flux = slots[n_ + k];
      const double share = factor(slots[2 * n_ + k]);
      // flux1 (1 + d leak) = flux0 (1 - d leak) + d (v0 + v1), or the Euler form.
      const double kept = (whole ? flux * (1 - d * leak_) + d * v : flux) / (1 + d * leak_);
      double j = middle_ * inverse_inductance_ * kept;
      if (capacitance_ > 0) j -= capacitance_ / d * v + (whole ? slots[3 * n_ + k] : 0);
      const Ahead& to = whole ? whole_ : half_;
      const double ahead = to.of_voltage * v + to.of_flux * flux;
      j += (share - middle_) *
           (conductance_ * ahead + inverse_inductance_ * (kept + d / (1 + d * leak_) * ahead));
      j += (share - 1) * capacitance_ * (to.rate_of_voltage * v + to.rate_of_flux * flux);
      history[k] = j;
    }
    (void)conductance;
    return false;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override {
    const bool whole = stretch.rule == Rule::trapezoidal;
    const double d = stretch.step_s / 2;
    for (int k = 0; k < n_; ++k) {
      const double v = across(places, now, k), v0 = across(places, old, k);
      double* slots = now + places.first;
      const double* before = old + places.first;
      slots[k] = history[k] + conductance[k * n_ + k] * v;
      const double kept =
          (whole ? before[n_ + k] * (1 - d * leak_) + d * v0 : before[n_ + k]) / (1 + d * leak_);
      slots[n_ + k] = kept + d / (1 + d * leak_) * v;
      const double square = before[2 * n_ + k];
      slots[2 * n_ + k] = square + (size(v, slots[n_ + k]) - square) *
                                       (1 - std::exp(-stretch.length_s() / values_.response_s));
      slots[3 * n_ + k] = capacitance_ / d * (v - v0) - (whole ? before[3 * n_ + k] : 0);
    }
  }

 private:
  static constexpr double slowest_leak = 1;  // 1/s
  static constexpr double highest = 1.25;    // voltage over the nominal that K reckons with

  /// What the voltage and the rate of its fundamental will be: shares of the voltage and the flux of now.
  struct Ahead {
    double of_voltage = 1, of_flux = 0, rate_of_voltage = 0, rate_of_flux = 0;
  };
  /// Exact for the fundamental, `s` in place of its d/dt.
  [[nodiscard]] Ahead ahead_by(double horizon_s, std::complex<double> s) const {
    const std::complex<double> turn = std::polar(1.0, values_.omega * horizon_s), flux = 1.0 / (s + leak_);
    Ahead to;
    to.of_flux = turn.imag() / flux.imag();
    to.of_voltage = turn.real() - to.of_flux * flux.real();
    to.rate_of_flux = (s * turn).imag() / flux.imag();
    to.rate_of_voltage = (s * turn).real() - to.rate_of_flux * flux.real();
    return to;
  }

  [[nodiscard]] static double across(const Places& places, const double* values, int k) noexcept {
    return values[places.p[static_cast<std::size_t>(k)]] - values[places.q[static_cast<std::size_t>(k)]];
  }
  /// Mean square of a sinusoid, of v and of what stands at right angles to it.
  [[nodiscard]] double size(double v, double flux) const noexcept {
    const double quadrature = (flux - in_phase_ * v) / across_;
    return (v * v + quadrature * quadrature) / 2;
  }
  [[nodiscard]] std::complex<double> nominal(std::complex<double> s) const {
    return conductance_ + inverse_inductance_ / (s + leak_) + s * capacitance_;
  }
  /// Admittance over the nominal one at a mean square of the voltage.
  [[nodiscard]] double factor(double mean_square) const noexcept {
    // Between solutions it may stand a little below nothing.
    const double u = std::sqrt(std::max(0.0, mean_square)) / values_.nominal_V;
    const double held = std::max(u, values_.least);
    const double c = values_.current_share, p = values_.power_share;
    return 1 - c - p + c / held + p / (held * held);
  }

  int n_;
  Values values_;
  double conductance_ = 0, inverse_inductance_ = 0, capacitance_ = 0;
  double leak_ = 1;    // 1/s, of the flux
  double middle_ = 1;  // K
  Ahead now_, whole_, half_;
  double in_phase_ = 0, across_ = 1;  // flux of a sinusoid over its voltage, along it and behind it
  std::vector<double> rates_;         // dv/dt across the ends, of the reference
};

}  // namespace zavrek::emt::internal

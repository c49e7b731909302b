// What an instrument transformer makes of a primary quantity: it reads the network and does not load it.
//   dx/dt = A x + b u + e m(x_k) + f d(u - m)/dt,   m(x) = bend (0.85 |x/knee| + 0.15 |x/knee|^14) sign x
// m is the magnetising current over flux linkage; ten per cent more flux than at the knee takes half as much
// current again, as IEC 61869-2 defines that point. With d = h/2 (either rule) and M = (1 - d A)^-1:
//   x1 = M [x0 + d b u1 + d e m1 + f (u1 - m1 - u0 + m0) (+ d (A x0 + b u0 + e m0))],
// one equation in x_k, solved by Newton's method in a bounded number of rounds. u and m stand in slots behind
// the states, so that the next step need not find them again.
#pragma once

#include <cmath>

#include <Eigen/Dense>

#include "emt/discrete.hpp"
#include "emt/model.hpp"

namespace zavrek::emt::internal {

class MeasuringModel : public Model {
 public:
  static constexpr int most_states = 5;
  struct Equations {
    Eigen::MatrixXd a;     // n x n
    Eigen::VectorXd b, e;  // n
    Eigen::VectorXd f{};   // n, or empty for none
    int flux = 0;          // k
    double knee_Vs = 1, bend_A = 0;
    Eigen::RowVectorXd out;  // output = out x + out_u u + out_m m
    double out_u = 0, out_m = 0;
    double remanence_Vs = 0;
    double omega = 1;
  };

  MeasuringModel(Equations equations, double step_s)
      : q_(std::move(equations)), n_(static_cast<int>(q_.b.size())), per_knee_(1 / q_.knee_Vs) {
    const Eigen::MatrixXd m = (Eigen::MatrixXd::Identity(n_, n_) - step_s / 2 * q_.a).inverse();
    for (int r = 0; r < n_; ++r) {
      for (int c = 0; c < n_; ++c) inverse_[r][c] = m(r, c);
    }
    if (q_.f.size() == 0) q_.f = Eigen::VectorXd::Zero(n_);
    const Eigen::VectorXd driven = m * (step_s / 2 * q_.e - q_.f);
    for (int k = 0; k < n_; ++k) {
      driven_[k] = driven[k];
      b_[k] = q_.b[k];
      e_[k] = q_.e[k];
      f_[k] = q_.f[k];
      out_[k] = q_.out[k];
      for (int c = 0; c < n_; ++c) a_[k][c] = q_.a(k, c);
    }
  }

  [[nodiscard]] int slots() const override { return 3 + n_; }  // output, states, u, m
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override { return {}; }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override { return {}; }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double step_s,
             double* values) override {
    const std::complex<double> s = discrete_derivative(q_.omega, step_s);
    const Eigen::MatrixXcd left = s * Eigen::MatrixXcd::Identity(n_, n_) - q_.a.cast<std::complex<double>>();
    const Eigen::VectorXcd phasors = left.fullPivLu().solve((q_.b + s * q_.f) * places.input_phasors[0]);
    double* slots = values + places.first;
    for (int k = 0; k < n_; ++k) slots[1 + k] = phasors[k].real();
    slots[1 + q_.flux] += q_.remanence_Vs;
    write_output(values + places.first, places.input(0, values), magnetizing(slots[1 + q_.flux]));
  }
  /// The reference knows no slope of what drives it.
  [[nodiscard]] States states() const override { return {q_.f.isZero(), 1, n_, false}; }
  void slopes(const Places& places, double* values, double*, double* slopes) noexcept override {
    const double* x = values + places.first + 1;
    const double u = places.input(0, values), m = magnetizing(x[q_.flux]);
    for (int k = 0; k < n_; ++k) {
      slopes[k] = q_.b[k] * u + q_.e[k] * m;
      for (int c = 0; c < n_; ++c) slopes[k] += q_.a(k, c) * x[c];
    }
    write_output(values + places.first, u, m);
  }
  bool begin(const Stretch&, const Places&, const double*, double*, double*) noexcept override {
    return false;
  }
  void end(const Stretch& stretch, const Places& places, const double* old, double* now, const double*,
           const double*) noexcept override {
    switch (n_) {
      case 1:
        return advance<1>(stretch, places, old, now);
      case 2:
        return advance<2>(stretch, places, old, now);
      case 3:
        return advance<3>(stretch, places, old, now);
      case 4:
        return advance<4>(stretch, places, old, now);
      default:
        return advance<most_states>(stretch, places, old, now);
    }
  }

 private:
  static constexpr int most_rounds = 40;

  /// With `N` states (or at most so many, for the highest).
  template <int N>
  void advance(const Stretch& stretch, const Places& places, const double* old, double* now) const noexcept {
    const int n = N == most_states ? n_ : N;
    const double d = stretch.step_s / 2;
    const double* x0 = old + places.first + 1;
    const double u0 = x0[n], m0 = x0[n + 1], u1 = places.input(0, now);
    double right[N], fixed[N];
    for (int k = 0; k < n; ++k) right[k] = x0[k] + d * b_[k] * u1 + f_[k] * (u1 - u0 + m0);
    if (stretch.rule == Rule::trapezoidal) {
      for (int k = 0; k < n; ++k) {
        double slope = b_[k] * u0 + e_[k] * m0;
        for (int c = 0; c < n; ++c) slope += a_[k][c] * x0[c];
        right[k] += d * slope;
      }
    }
    for (int k = 0; k < n; ++k) {
      fixed[k] = 0;
      for (int c = 0; c < n; ++c) fixed[k] += inverse_[k][c] * right[c];
    }
    const double guess = fixed[q_.flux] + driven_[q_.flux] * m0;
    const double m1 = magnetizing(solve(fixed[q_.flux], driven_[q_.flux], guess));
    double* x1 = now + places.first + 1;
    for (int k = 0; k < n; ++k) x1[k] = fixed[k] + driven_[k] * m1;
    write_output(now + places.first, u1, m1);
  }

  [[nodiscard]] double magnetizing(double flux) const noexcept {
    const double x = std::abs(flux) * per_knee_;
    return std::copysign(q_.bend_A * (0.85 * x + 0.15 * power(x)), flux);
  }
  /// x^14; far beyond the knee (a step that jumps there) straight on.
  [[nodiscard]] static double power(double x) noexcept {
    constexpr double bound = 3;
    const double y = std::min(x, bound);
    const double y2 = y * y, y4 = y2 * y2, y8 = y4 * y4, p = y8 * y4 * y2;
    return x <= bound ? p : p * (1 + 14 * (x - bound) / bound);
  }
  [[nodiscard]] double slope(double flux) const noexcept {
    const double x = std::min(std::abs(flux) * per_knee_, 3.0);
    const double x2 = x * x, x4 = x2 * x2, x8 = x4 * x4;
    return q_.bend_A * per_knee_ * (0.85 + 0.15 * 14 * x8 * x4 * x);
  }
  /// x = fixed + driven m(x); `driven` is negative, so that the left side less the right one rises with x.
  [[nodiscard]] double solve(double fixed, double driven, double guess) const noexcept {
    double x = guess, low = -1e300, high = 1e300;
    for (int round = 0; round < most_rounds; ++round) {
      const double excess = x - fixed - driven * magnetizing(x);
      (excess > 0 ? high : low) = x;
      const double newton = x - excess / (1 - driven * slope(x));
      // Arrived comes before bracketed: at the solution the bracket has shut on x itself.
      // Newton's error is the square of its step, times a curvature of some hundreds.
      if (std::abs(newton - x) <= 1e-8 * q_.knee_Vs) return newton;
      const bool inside = newton > low && newton < high;
      x = inside ? newton : (std::max(low, -1e12) + std::min(high, 1e12)) / 2;
    }
    return x;
  }
  void write_output(double* slots, double u, double m) const noexcept {
    double sum = q_.out_u * u + q_.out_m * m;
    for (int k = 0; k < n_; ++k) sum += out_[k] * slots[1 + k];
    slots[0] = sum;
    slots[1 + n_] = u;
    slots[2 + n_] = m;
  }

  Equations q_;
  int n_;
  // The equations again, side by side: what the step reads.
  double per_knee_;
  double a_[most_states][most_states] = {}, b_[most_states] = {}, e_[most_states] = {}, f_[most_states] = {};
  double out_[most_states] = {};
  double inverse_[most_states][most_states] = {};
  double driven_[most_states] = {};
};

}  // namespace zavrek::emt::internal

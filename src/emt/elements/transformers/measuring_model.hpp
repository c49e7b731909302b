// What an instrument transformer makes of a primary quantity: it reads the network and does not load it.
//   dx/dt = A x + b u + e m(x_k) + f d(u - m)/dt,   m(x) = bend (0.85 |x/knee| + 0.15 |x/knee|^14) sign x
// m is the magnetising current over flux linkage; ten per cent more flux than at the knee takes half as much
// current again, as IEC 61869-2 defines that point. With d = h/2 (either rule) and M = (1 - d A)^-1:
//   x1 = M [x0 + d b u1 + d e m1 + f (u1 - m1 - u0 + m0) (+ d (A x0 + b u0 + e m0))],
// one equation in x_k, solved by Newton's method in a bounded number of rounds. Phases of equal data are
// solved side by side, one to a lane. u and m stand in slots behind the states, so that the next step need
// not find them again. The reference takes z = x - f (u - m) for its states, whose slopes do not ask for
// those of u:
//   dz/dt = A x + b u + e m,   x_k + f_k m(x_k) = z_k + f_k u.
#pragma once

#include <cmath>

#include <Eigen/Core>

#include "emt/parts/discrete.hpp"
#include "emt/parts/model.hpp"
#include "emt/solve/dense.hpp"
#include "emt/solve/lanes.hpp"

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

  /// Of so many phases, each with an input of its own.
  MeasuringModel(Equations equations, int phases, double step_s)
      : q_(std::move(equations)),
        n_(static_cast<int>(q_.b.size())),
        phases_(phases),
        per_knee_(1 / q_.knee_Vs) {
    const Eigen::MatrixXd m = inverse(Eigen::MatrixXd(Eigen::MatrixXd::Identity(n_, n_) - step_s / 2 * q_.a));
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

  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<MeasuringModel>(*this);
  }
  /// Its slots, in lanes: output, states, u, m, states of the reference.
  [[nodiscard]] int slots() const override { return (3 + 2 * n_) * lanes; }
  /// From the first: of a phase's output, and of its flux.
  [[nodiscard]] static int output_slot(int phase) { return phase; }
  [[nodiscard]] int flux_slot(int phase) const { return (1 + q_.flux) * lanes + phase; }
  [[nodiscard]] bool measures() const override { return true; }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    Eigen::MatrixXd inverse(n_, n_);
    Eigen::VectorXd driven(n_);
    for (int r = 0; r < n_; ++r) {
      driven[r] = driven_[r];
      for (int c = 0; c < n_; ++c) inverse(r, c) = inverse_[r][c];
    }
    return WrittenLaw{
        "instrument_" + std::to_string(n_),
        {{"phases", phases_},
         {"flux", q_.flux},
         {"knee", q_.knee_Vs},
         {"per_knee", per_knee_},
         {"bend", q_.bend_A},
         {"out_u", q_.out_u},
         {"out_m", q_.out_m}},
        {{"b", q_.b}, {"e", q_.e}, {"f", q_.f}, {"out", q_.out.transpose()}, {"driven", driven}},
        {{"a", q_.a}, {"inverse", inverse}}};
  }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override { return {}; }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override { return {}; }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double step_s,
             double* values) override {
    const std::complex<double> s = discrete_derivative(q_.omega, step_s);
    const Eigen::MatrixXcd left = s * Eigen::MatrixXcd::Identity(n_, n_) - q_.a.cast<std::complex<double>>();
    double* slots = values + places.first;
    std::fill_n(slots, this->slots(), 0.0);
    for (int phase = 0; phase < phases_; ++phase) {
      const Eigen::VectorXcd phasors =
          internal::solve(left, (q_.b + s * q_.f) * places.input_phasors[static_cast<std::size_t>(phase)]);
      for (int k = 0; k < n_; ++k) slots[(1 + k) * lanes + phase] = phasors[k].real();
      slots[flux_slot(phase)] += q_.remanence_Vs;
    }
    const Lanes u = inputs(places, values), m = magnetizing(load(slots + (1 + q_.flux) * lanes));
    write_output(slots, u, m);
    for (int k = 0; k < n_; ++k)
      store(slots + (3 + n_ + k) * lanes, load(slots + (1 + k) * lanes) - f_[k] * (u - m));
  }
  [[nodiscard]] States states() const override { return {true, (3 + n_) * lanes, n_ * lanes, false}; }
  [[nodiscard]] int state_count() const override { return n_ * phases_; }
  void slopes(const Places& places, double* values, double*, double* slopes) noexcept override {
    double* x = values + places.first + lanes;
    const double* z = x + (2 + n_) * lanes;
    const Lanes u = inputs(places, values), flux = load(z + q_.flux * lanes);
    const double f = f_[q_.flux];
    const Lanes m = magnetizing(solve(flux + f * u, -f, flux + f * (u - magnetizing(flux))));
    for (int k = 0; k < n_; ++k) store(x + k * lanes, load(z + k * lanes) + f_[k] * (u - m));
    for (int k = 0; k < n_; ++k) {
      Lanes slope = b_[k] * u + e_[k] * m;
      for (int c = 0; c < n_; ++c) slope += a_[k][c] * load(x + c * lanes);
      store(slopes + k * lanes, slope);
    }
    write_output(values + places.first, u, m);
  }
  bool begin(const Interval&, const Places&, const double*, double*, double*) noexcept override {
    return false;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now, const double*,
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

  [[nodiscard]] Lanes inputs(const Places& places, const double* values) const noexcept {
    double u[lanes] = {};
    for (int phase = 0; phase < phases_; ++phase)
      u[phase] = places.input(static_cast<std::size_t>(phase), values);
    return load(u);
  }

  /// With `N` states (or at most so many, for the highest).
  template <int N>
  void advance(const Interval& stretch, const Places& places, const double* old, double* now) const noexcept {
    const int n = N == most_states ? n_ : N;
    const double d = stretch.step_s / 2;
    const double* before = old + places.first + lanes;
    Lanes x0[N], right[N], fixed[N];
    for (int k = 0; k < n; ++k) x0[k] = load(before + k * lanes);
    const Lanes u0 = load(before + n * lanes), m0 = load(before + (n + 1) * lanes);
    const Lanes u1 = inputs(places, now);
    for (int k = 0; k < n; ++k) right[k] = x0[k] + d * b_[k] * u1 + f_[k] * (u1 - u0 + m0);
    if (stretch.rule == Rule::trapezoidal) {
      for (int k = 0; k < n; ++k) {
        Lanes slope = b_[k] * u0 + e_[k] * m0;
        for (int c = 0; c < n; ++c) slope += a_[k][c] * x0[c];
        right[k] += d * slope;
      }
    }
    for (int k = 0; k < n; ++k) {
      fixed[k] = Lanes{};
      for (int c = 0; c < n; ++c) fixed[k] += inverse_[k][c] * right[c];
    }
    const Lanes guess = fixed[q_.flux] + driven_[q_.flux] * m0;
    const Lanes m1 = magnetizing(solve(fixed[q_.flux], driven_[q_.flux], guess));
    double* x1 = now + places.first + lanes;
    for (int k = 0; k < n; ++k) store(x1 + k * lanes, fixed[k] + driven_[k] * m1);
    write_output(now + places.first, u1, m1);
  }

  [[nodiscard]] static Lanes size(Lanes x) noexcept { return x < 0 ? -x : x; }
  /// x^14; far beyond the knee (a step that jumps there) straight on.
  [[nodiscard]] Lanes magnetizing(Lanes flux) const noexcept {
    constexpr double bound = 3;
    const Lanes x = size(flux) * per_knee_;
    const Lanes y = x < bound ? x : Lanes{} + bound;
    const Lanes y2 = y * y, y4 = y2 * y2, y8 = y4 * y4, p = y8 * y4 * y2;
    const Lanes power = x <= bound ? p : p * (1 + 14 * (x - bound) / bound);
    const Lanes m = q_.bend_A * (0.85 * x + 0.15 * power);
    return flux < 0 ? -m : m;
  }
  [[nodiscard]] Lanes slope(Lanes flux) const noexcept {
    const Lanes y = size(flux) * per_knee_;
    const Lanes x = y < 3 ? y : Lanes{} + 3;
    const Lanes x2 = x * x, x4 = x2 * x2, x8 = x4 * x4;
    return q_.bend_A * per_knee_ * (0.85 + 0.15 * 14 * x8 * x4 * x);
  }
  /// x = fixed + driven m(x); `driven` is negative, so that the left side less the right one rises with x.
  [[nodiscard]] Lanes solve(Lanes fixed, double driven, Lanes guess) const noexcept {
    Lanes x = guess, low = Lanes{} - 1e300, high = Lanes{} + 1e300;
    for (int round = 0; round < most_rounds; ++round) {
      const Lanes excess = x - fixed - driven * magnetizing(x);
      high = excess > 0 ? x : high;
      low = excess > 0 ? low : x;
      const Lanes newton = x - excess / (1 - driven * slope(x));
      // Arrived comes before bracketed: at the solution the bracket has shut on x itself.
      // Newton's error is the square of its step (in knees) times a curvature: 1e-4 at the knee, 55 at three
      // times its flux.
      const Lanes excess_step = size(newton - x) - 1e-6 * q_.knee_Vs;
      if (excess_step[0] <= 0 && excess_step[1] <= 0 && excess_step[2] <= 0 && excess_step[3] <= 0)
        return newton;
      const Lanes bottom = low > -1e12 ? low : Lanes{} - 1e12, top = high < 1e12 ? high : Lanes{} + 1e12;
      const auto inside = (newton > low) & (newton < high);
      x = (excess_step <= 0) | inside ? newton : (bottom + top) / 2;
    }
    return x;
  }
  void write_output(double* slots, Lanes u, Lanes m) const noexcept {
    Lanes sum = q_.out_u * u + q_.out_m * m;
    for (int k = 0; k < n_; ++k) sum += out_[k] * load(slots + (1 + k) * lanes);
    store(slots, sum);
    store(slots + (1 + n_) * lanes, u);
    store(slots + (2 + n_) * lanes, m);
  }

  Equations q_;
  int n_, phases_;
  // The equations again, side by side: what the step reads.
  double per_knee_;
  double a_[most_states][most_states] = {}, b_[most_states] = {}, e_[most_states] = {}, f_[most_states] = {};
  double out_[most_states] = {};
  double inverse_[most_states][most_states] = {};
  double driven_[most_states] = {};
};

}  // namespace zavrek::emt::internal
